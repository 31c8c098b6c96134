import { ChangeDetectionStrategy, Component } from '@angular/core';

@Component({
  selector: 'lx-brand',
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `<svg width="20" height="24" viewBox="0 0 20 24" aria-hidden="true">
      <rect x="3" y="1" width="14" height="22" rx="4" fill="#efe4cc" />
      <path d="M3 7q4-2 7 0t7-1v5q-4 2-7 .5t-7 1z" fill="#b89b66" />
      <path d="M3 14q5-2 8 .2t6-.6v2.6q-4 1.6-7 .4t-7 .6z" fill="#6b7884" />
      <path d="M3 18.4q4-1 8 .2t6-.2V19a4 4 0 0 1-4 4H7a4 4 0 0 1-4-4z" fill="#3c4a57" />
    </svg>
    Lithodex`,
  styles: ':host { display: flex; align-items: center; gap: 9px; font-weight: 650; font-size: 16px; letter-spacing: -0.01em; }',
})
export class Brand {}
