import { CdkFixedSizeVirtualScroll, CdkVirtualForOf, CdkVirtualScrollViewport } from '@angular/cdk/scrolling';
import { ChangeDetectionStrategy, Component, computed, inject, input, signal, viewChild } from '@angular/core';
import { takeUntilDestroyed, toObservable, toSignal } from '@angular/core/rxjs-interop';
import { Router, RouterLink } from '@angular/router';
import type { Estate, EstateBy, QueryInput, WorkloadRow } from '@lithodex/contract';
import { concatMap, EMPTY, map, range, switchMap, toArray } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { Live } from '../data/live';
import { Moment } from '../data/moment';
import { outcome } from '../data/outcome';
import { paged } from '../data/paged';
import { Session } from '../data/session';
import { KindPart } from '../kinds/kind-part';
import { partsOf } from '../kinds/parts-of';
import { FilterBox } from '../ui/filter-box';
import { formatPipes } from '../ui/format-pipes';
import { InView } from '../ui/in-view';
import { ListKeys } from '../ui/list-keys';
import { StateMark, stateWord } from '../ui/state-mark';
import { ConnectMenu } from './connect-menu';
import { ConnectSource } from './connect-source';
import { EstateChanges } from './estate-changes';
import { EstateTree } from './estate-tree';
import { InsideDialog } from './inside-dialog';
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
/** Fetched at once for what is ticked without being in view. */
const tickedRows = 500;
/** More are better picked by a rule, which also takes in what comes later. */
const mostTicked = 1000;

@Component({
  selector: 'lx-estate-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    RouterLink,
    FilterBox,
    InView,
    ListKeys,
    CdkVirtualScrollViewport,
    CdkFixedSizeVirtualScroll,
    CdkVirtualForOf,
    StateMark,
    ConnectMenu,
    ConnectSource,
    EstateChanges,
    EstateTree,
    KindPart,
    InsideDialog,
    PlatformStrip,
    ...formatPipes,
  ],
  templateUrl: './estate-page.html',
  styleUrl: './estate-page.scss',
})
export class EstatePage {
  private readonly api = inject(Api);
  protected readonly partsOf = partsOf;
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
  private readonly list = paged(
    pageRows,
    this.query,
    inject(Live).ticks((e) => e.kind !== 'progress', 2000),
    (query, offset) => this.api.call('estate', { query: { ...query, offset } }).pipe(map((page) => ({ ...page, rows: page.workloads }))),
  );
  protected readonly estate = this.list.answer;
  private readonly tickFailure = signal<ApiFailure | undefined>(undefined);
  protected readonly problem = computed(() => this.list.failure() ?? this.tickFailure());
  protected readonly rows = this.list.rows;
  private readonly fetched = computed(() => this.rows().filter((w) => w !== undefined));
  protected readonly peeked = computed(() => this.fetched().find((w) => w.id === this.opened()));
  protected readonly mostTicked = mostTicked;
  protected readonly nothing: ReadonlyMap<number, WorkloadRow> = new Map();
  /** What is ticked, in view or not, as it was when it was ticked. */
  protected readonly ticked = signal(this.nothing);
  protected readonly allTicked = computed(() => {
    const [rows, ticked] = [this.rows().slice(0, mostTicked), this.ticked()];
    return rows.length > 0 && ticked.size >= rows.length && rows.every((w) => !w || ticked.has(w.id));
  });
  private readonly tickedNow = computed(() => {
    const known = new Map(this.fetched().map((w) => [w.id, w]));
    return [...this.ticked().values()].map((w) => known.get(w.id) ?? w);
  });
  protected readonly tickedMachines = computed(() => this.tickedNow().filter((w) => w.machine !== null && w.gone === null));
  /** Whether an account inside the ticked machines is asked for. */
  protected readonly inside = signal(false);
  /** What one should know of the ticked ones before they are protected. */
  protected readonly cautions = computed(() => {
    const rows = this.tickedNow();
    const told = (words: string, fits: (w: WorkloadRow) => boolean) => {
      const n = rows.filter(fits).length;
      return n ? [`${n} ${words}`] : [];
    };
    return [
      ...told('gone: nothing new can be taken', (w) => w.gone !== null),
      ...told('a template: taken as it is', (w) => Boolean(w.machine?.template)),
      ...told(
        'without a helper or account inside: as after a loss of power',
        (w) => w.machine !== null && w.machine.running && !w.machine.template && !w.machine.helper && w.inside === null,
      ),
      ...told('whose place is unknown', (w) => !w.source.location),
      ...told('protected already', (w) => w.policies.length > 0),
    ].join(' · ');
  });
  protected readonly policies = toSignal(this.session.reads() ? this.api.call('listPolicies').pipe(outcome()) : EMPTY);

  private readonly viewport = viewChild(CdkVirtualScrollViewport);

  constructor() {
    toObservable(this.viewport)
      .pipe(
        switchMap((viewport) => viewport?.renderedRangeStream ?? EMPTY),
        takeUntilDestroyed(),
      )
      .subscribe(this.list.see);
  }

  protected byId = (index: number, w: WorkloadRow | undefined) => w?.id ?? -index;

  protected tick(w: WorkloadRow): void {
    this.ticked.update((known) => {
      const next = new Map(known);
      if (!next.delete(w.id)) next.set(w.id, w);
      return next;
    });
  }

  /** Ticks all that fit the filters, also what was not fetched yet; once more, nothing. */
  protected tickAll(): void {
    if (this.allTicked()) {
      this.ticked.set(this.nothing);
      return;
    }
    const query = this.query();
    const pages = Math.ceil(Math.min(this.rows().length, mostTicked) / tickedRows);
    range(0, pages)
      .pipe(
        concatMap((page) => this.api.call('estate', { query: { ...query, offset: page * tickedRows, limit: tickedRows } })),
        toArray(),
        outcome(),
      )
      .subscribe(({ value, failure }) => {
        this.tickFailure.set(failure);
        if (value && this.query() === query) this.ticked.set(new Map(value.flatMap((p) => p.workloads.map((w) => [w.id, w]))));
      });
  }

  protected onKey(event: KeyboardEvent): void {
    const row = this.rows()[this.selected()];
    if (event.key === 'x' && row) this.tick(row);
  }

  /** Opens a policy with the ticked workloads added to its draft, where one sees what that does. */
  protected protect(policy: string): void {
    if (policy) void this.router.navigate(['/policies', policy], { queryParams: { plus: [...this.ticked().keys()].join(',') } });
  }

  protected countOf(show: Show): number | undefined {
    return this.estate()?.counts[show];
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
