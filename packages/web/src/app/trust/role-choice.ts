import { ChangeDetectionStrategy, Component, model } from '@angular/core';
import { FormsModule } from '@angular/forms';
import { roles, type Role } from '@lithodex/contract';
import { RemitChoice } from './remit-choice';

/** A role, and for a clerk the workloads it is for. What stands inside is shown between the two. */
@Component({
  selector: 'lx-role-choice',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, RemitChoice],
  template: `<label
      >Role<select class="field" name="role" [(ngModel)]="role" [ngModelOptions]="{ standalone: true }">
        @for (r of roles; track r) {
          <option [value]="r">{{ r }}</option>
        }
      </select></label
    >
    <ng-content />
    @if (role() === 'clerk') {
      <lx-remit-choice [(chosen)]="remit" />
    }`,
  styles: ':host { display: contents; } label { display: flex; flex-direction: column; gap: 3px; font-size: 13px; font-weight: 600; }',
})
export class RoleChoice {
  readonly role = model.required<Role>();
  readonly remit = model.required<readonly number[]>();
  protected readonly roles = roles;
}
