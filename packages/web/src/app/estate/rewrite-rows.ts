import { ChangeDetectionStrategy, Component, input, output } from '@angular/core';
import { FormsModule } from '@angular/forms';
import type { RewriteSet } from '@lithodex/kinds';

type Rewrite = RewriteSet['rewrites'][number];

/** Rewrites as rows of a table that can be edited. */
@Component({
  selector: 'lx-rewrite-rows',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule],
  template: `<table class="list">
      <thead>
        <tr>
          <th>In</th>
          <th>Field</th>
          <th>What stands there</th>
          <th>Becomes</th>
          <th><span class="visually-hidden">Remove</span></th>
        </tr>
      </thead>
      <tbody>
        @for (r of rewrites(); track $index; let i = $index) {
          <tr>
            @for (f of fields; track f.key) {
              <td>
                <input
                  class="field num"
                  [attr.aria-label]="f.label + ', rewrite ' + (i + 1)"
                  [placeholder]="f.empty"
                  maxlength="400"
                  [ngModelOptions]="{ standalone: true }"
                  [ngModel]="r[f.key]"
                  (ngModelChange)="set(i, f.key, $event)"
                />
              </td>
            }
            <td class="right">
              <button type="button" class="plain" [attr.aria-label]="'Remove rewrite ' + (i + 1)" (click)="remove(i)">remove</button>
            </td>
          </tr>
        }
      </tbody>
    </table>
    <button type="button" class="plain small" (click)="add()">add a rewrite</button>`,
  styles: `
    :host {
      display: block;
    }
    table {
      width: 100%;
    }
    td {
      padding: 2px 6px 2px 0;
    }
    .field {
      width: 100%;
    }
  `,
})
export class RewriteRows {
  readonly rewrites = input.required<readonly Rewrite[]>();
  readonly changed = output<Rewrite[]>();
  protected readonly fields = [
    { key: 'kind', label: 'Kind', empty: 'every kind' },
    { key: 'path', label: 'Field', empty: 'everywhere' },
    { key: 'from', label: 'What stands there', empty: 'the whole value' },
    { key: 'to', label: 'Becomes', empty: '' },
  ] as const;

  protected set(index: number, key: keyof Rewrite, value: string): void {
    this.changed.emit(this.rewrites().map((r, i) => (i === index ? { ...r, [key]: value } : r)));
  }
  protected add(): void {
    this.changed.emit([...this.rewrites(), { kind: '', path: '', from: '', to: '' }]);
  }
  protected remove(index: number): void {
    this.changed.emit(this.rewrites().filter((_, i) => i !== index));
  }
}
