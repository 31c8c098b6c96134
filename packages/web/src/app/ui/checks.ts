import { ChangeDetectionStrategy, Component, input } from '@angular/core';
import { StateMark } from './state-mark';

export interface Check {
  readonly level: 'fine' | 'look' | 'stop';
  readonly text: string;
}

/** A list of checks in a consequences panel: what is fine is quiet, the rest stands out. */
@Component({
  selector: 'lx-checks',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [StateMark],
  template: `@for (check of checks(); track check.text) {
    <div class="check" [class.mute]="check.level === 'fine'">
      <lx-mark [state]="check.level" /><span>{{ check.text }}</span>
    </div>
  }`,
  styles: '.check { display: grid; grid-template-columns: 18px 1fr; gap: 7px; font-size: 13px; padding: 3px 0; }',
})
export class Checks {
  readonly checks = input.required<readonly Check[]>();
}
