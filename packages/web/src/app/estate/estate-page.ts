import { ChangeDetectionStrategy, Component, computed, inject, input, linkedSignal, signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { Router, RouterLink } from '@angular/router';
import type { Estate, EstateBy, QueryInput, WorkloadRow } from '@lithodex/contract';
import { combineLatest, EMPTY, switchMap } from 'rxjs';
import { Api } from '../data/api';
import { Live } from '../data/live';
import { Moment } from '../data/moment';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { FilterBox } from '../ui/filter-box';
import { formatPipes } from '../ui/format-pipes';
import { ListKeys } from '../ui/list-keys';
import { StateMark, stateWord } from '../ui/state-mark';
import { ConnectSource } from './connect-source';
import { EstateChanges } from './estate-changes';
import { EstateTree } from './estate-tree';
import { FolderPeek } from './folder-peek';
import { MachinePeek } from './machine-peek';
import { PlatformStrip } from './platform-strip';

type Show = 'all' | keyof Omit<Estate['counts'], 'all'>;
const shows: readonly { show: Show; word: string }[] = [
  { show: 'all', word: 'all' },
  { show: 'none', word: 'unprotected' },
  { show: 'matched', word: 'no point yet' },
  { show: 'suspect', word: 'suspect' },
  { show: 'late', word: 'past the objective' },
  { show: 'protected', word: 'protected' },
  { show: 'gone', word: 'gone' },
];

const pageRows = 200;
/** So near to the end of what is shown the next page is fetched, px. */
const nearEnd = 1200;

@Component({
  selector: 'lx-estate-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    RouterLink,
    FilterBox,
    ListKeys,
    StateMark,
    ConnectSource,
    EstateChanges,
    EstateTree,
    FolderPeek,
    MachinePeek,
    PlatformStrip,
    ...formatPipes,
  ],
  templateUrl: './estate-page.html',
  styleUrl: './estate-page.scss',
})
export class EstatePage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  protected readonly session = inject(Session);
  protected readonly moment = inject(Moment);
  readonly show = input<string>();
  readonly q = input<string>();
  readonly tag = input<string>();
  /** Which hierarchy is shown as a tree, and which part of it is chosen. */
  readonly by = input<string>();
  readonly part = input<string>();
  readonly connect = input<string>();
  protected readonly selected = signal(0);
  protected readonly opened = signal<number | null>(null);
  protected readonly shows = shows;
  protected readonly word = stateWord;
  private readonly query = computed((): QueryInput<'estate'> => {
    const show = this.show();
    return {
      at: this.moment.at() ?? undefined,
      q: this.q(),
      tag: this.tag(),
      show: show && show !== 'all' && show !== 'changes' ? (show as Exclude<Show, 'all'>) : undefined,
      by: this.by() as EstateBy | undefined,
      in: this.part(),
      limit: pageRows,
    };
  });
  private readonly result = toSignal(
    combineLatest([toObservable(this.query), inject(Live).ticks((e) => e.kind !== 'progress', 2000)]).pipe(
      switchMap(([query]) => this.api.call('estate', { query }).pipe(outcome<Estate>())),
    ),
  );
  protected readonly estate = computed(() => this.result()?.value);
  protected readonly problem = computed(() => this.result()?.failure);
  /** Rows after the first page, fetched as one scrolls. */
  private readonly further = linkedSignal<Estate | undefined, readonly WorkloadRow[]>({ source: this.estate, computation: () => [] });
  protected readonly rows = computed(() => [...(this.estate()?.workloads ?? []), ...this.further()]);
  protected readonly more = computed(() => this.rows().length < (this.estate()?.total ?? 0));
  private fetching = false;
  protected readonly emptySet: ReadonlySet<number> = new Set();
  protected readonly ticked = signal<ReadonlySet<number>>(this.emptySet);
  protected readonly allTicked = computed(() => this.rows().length > 0 && this.rows().every((w) => this.ticked().has(w.id)));
  protected readonly policies = toSignal(this.session.reads() ? this.api.call('listPolicies').pipe(outcome()) : EMPTY);

  protected scrolled(event: Event): void {
    const at = event.target as HTMLElement;
    if (!this.more() || this.fetching || at.scrollHeight - at.scrollTop - at.clientHeight > nearEnd) return;
    this.fetching = true;
    const from = this.estate();
    this.api.call('estate', { query: { ...this.query(), offset: this.rows().length } }).subscribe({
      next: (page) => {
        this.fetching = false;
        if (this.estate() === from) this.further.update((rows) => [...rows, ...page.workloads]);
      },
      error: () => (this.fetching = false),
    });
  }

  protected tick(id: number): void {
    this.ticked.update((set) => {
      const next = new Set(set);
      if (!next.delete(id)) next.add(id);
      return next;
    });
  }

  protected tickAll(): void {
    this.ticked.set(this.allTicked() ? this.emptySet : new Set(this.rows().map((w) => w.id)));
  }

  protected onKey(event: KeyboardEvent): void {
    const row = this.rows()[this.selected()];
    if (event.key === 'x' && row) this.tick(row.id);
  }

  /** Opens a policy with the ticked workloads added to its draft, where one sees what that does. */
  protected protect(policy: string): void {
    if (policy) void this.router.navigate(['/policies', policy], { queryParams: { plus: [...this.ticked()].join(',') } });
  }

  protected countOf(show: Show): number {
    return this.estate()?.counts[show] ?? 0;
  }

  protected patch(query: Record<string, string | null>): void {
    void this.router.navigate([], { queryParams: query, queryParamsHandling: 'merge', replaceUrl: true });
  }

  protected toggle(w: WorkloadRow, event: Event): void {
    event.stopPropagation();
    this.opened.update((id) => (id === w.id ? null : w.id));
  }

  protected open(index: number): void {
    const row = this.rows()[index];
    if (row) void this.router.navigate(['/estate', row.id], { queryParamsHandling: 'preserve' });
  }
}
