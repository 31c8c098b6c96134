import { ChangeDetectionStrategy, Component, computed, inject, input, numberAttribute, signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { Router, RouterLink } from '@angular/router';
import type { BesideRows, Inside, InsideRows } from '@lithodex/contract';
import { escapePath, itemNameOf } from '@lithodex/core';
import { of, startWith, switchMap } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { outcome, type Outcome } from '../data/outcome';
import { formatPipes } from '../ui/format-pipes';
import { Slot, type SlotOption } from '../ui/slot';
import { RowsDifference } from './rows-difference';

type Table = Inside['tables'][number];
type View = 'rows' | 'difference';

/** A scratch server that a restore left up: its tables, their rows, and how these differ from those of now. */
@Component({
  selector: 'lx-inside-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, RouterLink, Slot, RowsDifference, ...formatPipes],
  templateUrl: './inside-page.html',
  styleUrls: ['./inside-page.scss', './rows-table.scss'],
})
export class InsidePage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  /** Of the restore. */
  readonly id = input.required({ transform: numberAttribute });
  readonly database = input<string>();
  readonly table = input<string>();
  readonly view = input<View, string | undefined>('rows', { transform: (v) => (v === 'difference' ? 'difference' : 'rows') });
  /** Only rows that hold a text in a column. */
  readonly column = input<string>();
  readonly text = input<string>();
  readonly offset = input(0, { transform: (v: string | undefined) => numberAttribute(v, 0) });
  readonly only = input<string>();
  protected readonly typed = signal('');
  protected readonly problem = signal('');
  protected readonly ended = signal(false);

  private readonly loaded = toSignal(
    toObservable(this.id).pipe(switchMap((id) => this.api.call('inside', { id }).pipe(outcome<Inside>()))),
  );
  protected readonly inside = computed(() => (this.ended() ? undefined : this.loaded()?.value));
  protected readonly failure = computed(() => (this.ended() ? 'The scratch server was ended.' : this.loaded()?.failure?.message));
  protected readonly tables = computed(() => {
    const typed = this.typed().trim().toLowerCase();
    return (this.inside()?.tables ?? []).filter((t) => `${t.database}.${t.table}`.toLowerCase().includes(typed));
  });
  protected readonly shown = computed(() => this.inside()?.tables.find((t) => t.database === this.database() && t.table === this.table()));
  private readonly asked = computed(() => {
    const shown = this.shown();
    if (!shown) return undefined;
    const at = { database: shown.database, table: shown.table };
    const [column, text] = [this.column(), this.text()];
    return { id: this.id(), view: this.view(), at, rows: { ...at, ...(column && text && { column, text }), offset: this.offset() } };
  });
  private readonly answer = toSignal(
    toObservable(this.asked).pipe(
      switchMap((q) => {
        if (!q) return of<Outcome<InsideRows | BesideRows> | undefined>(undefined);
        const { id, at, rows } = q;
        const answer =
          q.view === 'rows'
            ? this.api.call('insideRows', { id, query: rows }).pipe(outcome<InsideRows | BesideRows>())
            : this.api.call('insideDifference', { id, query: at }).pipe(outcome<InsideRows | BesideRows>());
        return answer.pipe(startWith(undefined));
      }),
    ),
  );
  protected readonly rows = computed(() => {
    const value = this.answer()?.value;
    return value && 'more' in value ? value : undefined;
  });
  protected readonly compared = computed(() => {
    const value = this.answer()?.value;
    return value && 'counts' in value ? value : undefined;
  });
  protected readonly rowsFailure = computed(() => this.answer()?.failure?.message);
  protected readonly columns = computed((): SlotOption<string>[] => (this.rows()?.columns ?? []).map((c) => ({ value: c, label: c })));
  protected readonly filterColumn = computed(() => this.column() ?? this.rows()?.columns[0] ?? '');

  /** Where the table is brought back from, as of the moment that is looked into. */
  protected back(t: Table): Record<string, string | number> {
    const path = `${itemNameOf(t.database)}/tables/${itemNameOf(t.table)}.sql`;
    return { at: this.inside()!.at, what: escapePath(path), ...(this.inside()!.commit && { commit: this.inside()!.commit! }) };
  }

  protected show(query: Record<string, string | number | null>): void {
    void this.router.navigate([], { queryParams: query, queryParamsHandling: 'merge', replaceUrl: true });
  }
  protected open(t: Table): void {
    this.show({ database: t.database, table: t.table, column: null, text: null, offset: null, only: null });
  }
  protected filter(text: string): void {
    this.show({ column: text ? this.filterColumn() : null, text: text || null, offset: null });
  }
  protected end(): void {
    this.api.call('endInside', { id: this.id() }).subscribe({
      next: () => {
        this.ended.set(true);
      },
      error: (f: ApiFailure) => {
        this.problem.set(f.message);
      },
    });
  }
}
