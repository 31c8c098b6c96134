import { ChangeDetectionStrategy, Component, input, linkedSignal, output } from '@angular/core';
import { FormsModule } from '@angular/forms';
import { PaceWindow } from '@lithodex/contract';
import { formatRate } from '@lithodex/core';

const megabyte = 1_000_000;
const office: PaceWindow = { from: '07:00', to: '18:00', perSecond: 20 * megabyte };

/** Limits by hour of the day, in words. */
export const paceWords = (paces: readonly PaceWindow[]) =>
  paces.map((p) => `${p.from === p.to ? 'always' : `${p.from}–${p.to}`} ${formatRate(p.perSecond)}`).join(', ') || 'no limit';

/** Between which hours how much may travel to a target. */
@Component({
  selector: 'lx-pace-form',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule],
  template: `
    <form (ngSubmit)="saved.emit(rows())">
      <p class="m-0">
        All who write to it, and verification, share what is allowed; it holds for what is at work within a second or two. Restores are
        never slowed down. At other hours there is no limit.
      </p>
      @for (row of rows(); track $index; let i = $index) {
        <div class="row-line">
          @for (side of sides; track side.key) {
            {{ side.word }}
            <input
              class="field num t"
              [name]="side.key + i"
              [attr.aria-label]="side.label + (i + 1)"
              placeholder="07:00"
              maxlength="5"
              [ngModel]="row[side.key]"
              (ngModelChange)="change(i, side.key, $event)"
            />
          }
          at most
          <input
            class="field n"
            type="number"
            min="0.001"
            step="any"
            [name]="'rate' + i"
            [attr.aria-label]="'MB a second in hours ' + (i + 1)"
            required
            [ngModel]="row.perSecond / megabyte"
            (ngModelChange)="change(i, 'perSecond', bytes($event))"
          />
          MB/s
          <button type="button" class="plain" [attr.aria-label]="'Leave out ' + row.from + ' to ' + row.to" (click)="drop(i)">✕</button>
        </div>
      } @empty {
        <p class="m-0 mute">There is no limit.</p>
      }
      <div class="row-line">
        <button type="submit" class="act go" [disabled]="!valid()">Save</button>
        @if (rows().length < 8) {
          <button type="button" class="act" (click)="add()">Add hours</button>
        }
      </div>
    </form>
  `,
  styles: `
    form {
      display: flex;
      flex-direction: column;
      gap: 10px;
    }
    .t {
      width: 72px;
    }
    .n {
      width: 90px;
    }
  `,
})
export class PaceForm {
  readonly paces = input.required<readonly PaceWindow[]>();
  readonly saved = output<PaceWindow[]>();
  protected readonly megabyte = megabyte;
  protected readonly sides = [
    { key: 'from', word: 'From', label: 'start of hours ' },
    { key: 'to', word: 'to', label: 'end of hours ' },
  ] as const;
  protected readonly rows = linkedSignal(() => [...this.paces()]);

  protected change(at: number, key: keyof PaceWindow, value: string | number): void {
    this.rows.update((rows) => rows.map((r, i) => (i === at ? { ...r, [key]: value } : r)));
  }

  protected bytes(megabytes: number | null): number {
    return Math.round((megabytes ?? 0) * megabyte);
  }

  protected drop(at: number): void {
    this.rows.update((rows) => rows.filter((_, i) => i !== at));
  }

  protected add(): void {
    this.rows.update((rows) => [...rows, office]);
  }

  protected valid(): boolean {
    return this.rows().every((r) => PaceWindow.safeParse(r).success);
  }
}
