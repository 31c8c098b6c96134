import { ChangeDetectionStrategy, Component, input, output } from '@angular/core';
import { A11yModule } from '@angular/cdk/a11y';

/** A sheet above the page for a short form; Esc closes it, the focus stays inside. */
@Component({
  selector: 'lx-form-dialog',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [A11yModule],
  template: `<div class="dialog-back" (keydown.escape)="closed.emit()">
    <section class="sheet box" role="dialog" aria-modal="true" [attr.aria-label]="heading()" cdkTrapFocus [cdkTrapFocusAutoCapture]="true">
      <header class="row-line">
        <h1>{{ heading() }}</h1>
        <span class="grow"></span><button type="button" class="act sm" (click)="closed.emit()">Close</button>
      </header>
      <ng-content />
    </section>
  </div>`,
  styles:
    '.box { width: min(620px, 92vw); max-height: 82vh; overflow: auto; padding: 16px 20px 18px; display: flex; flex-direction: column; gap: 12px; }',
})
export class FormDialog {
  readonly heading = input.required<string>();
  readonly closed = output();
}
