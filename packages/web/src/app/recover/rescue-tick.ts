import { ChangeDetectionStrategy, Component, input, model } from '@angular/core';
import { FormsModule } from '@angular/forms';
import type { RestorePlan } from '@lithodex/contract';

/** Whether a point of what is replaced is taken first, where one can be. */
@Component({
  selector: 'lx-rescue-tick',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule],
  template: `@if (plan().rescue; as r) {
    <label class="small">
      <input type="checkbox" name="rescue" [ngModel]="rescue()" (ngModelChange)="rescue.set($event)" />
      first take a point of {{ r.workload }} to {{ r.target }}, as it is now
    </label>
  }`,
  styles: 'label { display: flex; gap: 8px; align-items: center; }',
})
export class RescueTick {
  readonly plan = input.required<RestorePlan>();
  readonly rescue = model.required<boolean>();
}
