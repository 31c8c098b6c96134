import { ChangeDetectionStrategy, Component, computed, input, output } from '@angular/core';
import type { BesideRows } from '@lithodex/contract';
import { formatPipes } from '../ui/format-pipes';

type Row = BesideRows['rows'][number];
export type Change = Row['change'];
const words: Record<Change, string> = { gone: 'gone', changed: 'changed', added: 'new' };

/** How two tables differ: counts, and the rows of each kind of difference with what became of their values. */
@Component({
  selector: 'lx-rows-difference',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...formatPipes],
  templateUrl: './rows-difference.html',
  styleUrls: ['./rows-difference.scss', './rows-table.scss'],
})
export class RowsDifference {
  readonly compared = input.required<BesideRows>();
  /** Only rows with this difference. */
  readonly only = input<string>();
  readonly onlyChange = output<Change | null>();
  protected readonly words = words;
  protected readonly changes: readonly Change[] = ['gone', 'changed', 'added'];
  protected readonly rows = computed(() => this.compared().rows.filter((r) => !this.only() || r.change === this.only()));
  protected readonly same = computed(() => {
    const { added, changed, gone } = this.compared().counts;
    return added + changed + gone === 0;
  });

  protected valueAt({ now, then }: Row, i: number): string | null {
    return (then ?? now)?.[i] ?? null;
  }

  /** What a changed value has become; undefined where it is the same. */
  protected becameAt({ change, now, then }: Row, i: number): { readonly value: string | null } | undefined {
    return change === 'changed' && now?.[i] !== then?.[i] ? { value: now?.[i] ?? null } : undefined;
  }
}
