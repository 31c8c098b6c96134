import { ChangeDetectionStrategy, Component, input, output } from '@angular/core';
import { FormDialog } from './form-dialog';

/** Says what an act takes before it is done. */
@Component({
  selector: 'lx-certain',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormDialog],
  template: `<lx-form-dialog [heading]="heading()" (closed)="closed.emit()">
    <p class="m-0">{{ effect() }}</p>
    @if (problem()) {
      <div class="problem" role="alert">{{ problem() }}</div>
    }
    <div>
      <button type="button" class="act go" (click)="done.emit()">{{ act() }}</button>
    </div>
  </lx-form-dialog>`,
})
export class Certain {
  readonly heading = input.required<string>();
  readonly effect = input.required<string>();
  readonly act = input.required<string>();
  readonly problem = input('');
  readonly done = output();
  readonly closed = output();
}
