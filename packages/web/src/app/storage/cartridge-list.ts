import { ChangeDetectionStrategy, Component, computed, inject, input } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import type { Cartridge } from '@lithodex/contract';
import { countOf, formatList } from '@lithodex/core';
import { switchMap } from 'rxjs';
import { Api } from '../data/api';
import { Live } from '../data/live';
import { outcome } from '../data/outcome';
import { formatPipes } from '../ui/format-pipes';
import { StateMark } from '../ui/state-mark';

/** The cartridges of a target: where each is, how full, and what has to be done by hand. */
@Component({
  selector: 'lx-cartridge-list',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [StateMark, ...formatPipes],
  template: `
    <section class="sheet box">
      <h2>Cartridges</h2>
      @if (failure(); as f) {
        <div class="problem" role="alert">{{ f.message }}</div>
      }
      @if (rows(); as all) {
        <p class="m-0">
          @if (words().low) {
            <lx-mark state="look" />
          }
          {{ words().text }}
        </p>
        <table class="list">
          <tbody>
            @for (c of all; track c.barcode) {
              <tr [class.away]="!c.here">
                <td class="num">{{ c.barcode }}</td>
                <td>{{ c.where }}{{ c.writeProtected ? ', protected' : '' }}</td>
                <td class="level" [title]="levelWords(c)">
                  <span class="bar"><i class="dead" [style.width.%]="share(c, c.used)"></i><i [style.width.%]="share(c, c.live)"></i></span>
                </td>
                <td class="right num">{{ c.number === null ? 'empty' : c.spent ? 'spent' : (c.live | bytes) }}</td>
              </tr>
            }
          </tbody>
        </table>
        <p class="m-0 small mute">
          A point may need several of them: the restore sheet names which. One on which nothing counts any more is erased and used again.
        </p>
      } @else if (!failure()) {
        <div class="skeleton" style="height: 90px"></div>
      }
    </section>
  `,
  styles: `
    :host {
      display: block;
    }
    .box {
      padding: 12px 16px;
      display: flex;
      flex-direction: column;
      gap: 8px;
    }
    .away td {
      color: var(--ink-2);
    }
    .level {
      width: 90px;
    }
    .bar {
      position: relative;
      display: block;
      height: 9px;
      border-radius: 2px;
      background: var(--hush);
      overflow: hidden;
    }
    .bar i {
      position: absolute;
      inset: 0 auto 0 0;
      background: var(--incremental);
    }
    .bar .dead {
      background: var(--line);
    }
    .right {
      text-align: right;
    }
  `,
})
export class CartridgeList {
  private readonly api = inject(Api);
  private readonly live = inject(Live);
  readonly id = input.required<string>();
  private readonly loaded = toSignal(
    toObservable(this.id).pipe(
      switchMap((id) =>
        this.live.reloading(
          () => this.api.call('cartridges', { id }).pipe(outcome<{ rows: Cartridge[] }>()),
          (e) => e.kind === 'point' || e.kind === 'estate' || e.kind === 'run',
          5000,
        ),
      ),
    ),
  );
  protected readonly rows = computed(() => this.loaded()?.value?.rows);
  protected readonly failure = computed(() => this.loaded()?.failure);

  /** What stands where, and whether somebody has to bring an empty one. */
  protected readonly words = computed(() => {
    const rows = this.rows() ?? [];
    const shelved = rows.filter((c) => !c.here).map((c) => c.barcode);
    const ready = rows.filter((c) => c.here && !c.writeProtected && (c.number === null || c.spent)).length;
    const shelf = shelved.length ? `${formatList(shelved)} ${shelved.length === 1 ? 'is' : 'are'} on the shelf. ` : '';
    const left = ready
      ? `${countOf(ready, 'cartridge')} can still be begun.`
      : 'No empty one is left in the library: put one in before this one is full.';
    return { text: shelf + left, low: ready === 0 };
  });

  protected share({ capacity, used }: Cartridge, bytes: number): number {
    return (100 * bytes) / Math.max(1, capacity ?? used);
  }

  protected levelWords({ used, live, capacity }: Cartridge): string {
    const of = capacity === null ? '' : ` of ${Math.round(capacity / 1e6)} MB`;
    return `${Math.round(used / 1e6)}${of ? '' : ' MB'}${of} written, ${Math.round(live / 1e6)} MB still count`;
  }
}
