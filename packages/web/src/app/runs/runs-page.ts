import { ChangeDetectionStrategy, Component, computed, effect, inject, input, signal, untracked } from '@angular/core';
import { CdkFixedSizeVirtualScroll, CdkVirtualForOf, CdkVirtualScrollViewport } from '@angular/cdk/scrolling';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { Router, RouterLink } from '@angular/router';
import type { QueryInput, RunRow } from '@lithodex/contract';
import { formatFirst } from '@lithodex/core';
import { stringify } from './csv';
import { combineLatest, debounceTime, switchMap } from 'rxjs';
import { Api } from '../data/api';
import { Live } from '../data/live';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { FilterBox } from '../ui/filter-box';
import { formatPipes } from '../ui/format-pipes';
import { InView } from '../ui/in-view';
import { ListKeys } from '../ui/list-keys';
import { LimitOfAll } from './limit-of-all';
import { SavedFilters } from './saved-filters';
import { StateMark, stateWord, unfinishedStates } from '../ui/state-mark';

const hour = 3_600_000;
const spans: readonly { hours: number; word: string }[] = [
  { hours: 0, word: 'ever' },
  { hours: 24, word: 'last 24 h' },
  { hours: 72, word: 'last 3 days' },
  { hours: 168, word: 'last week' },
  { hours: 744, word: 'last month' },
];
const stateGroups: readonly { states: string; word: string }[] = [
  { states: '', word: 'any state' },
  { states: 'failed,held,partsMissing,remarks,stopped,cutOff,notStarted', word: 'not plainly done' },
  { states: 'running,waiting', word: 'running or waiting' },
  { states: 'failed', word: 'failed' },
  { states: 'done', word: 'done' },
];
const kindGroups = [
  { kinds: '', word: 'all but copies and upkeep' },
  { kinds: 'backup', word: 'backups' },
  { kinds: 'restore,download', word: 'restores' },
  { kinds: 'copy', word: 'copies' },
  { kinds: 'trial', word: 'trials' },
  { kinds: 'prune,verify', word: 'upkeep of targets' },
];

/** All runs, newest first, with every filter in the address. */
@Component({
  selector: 'lx-runs-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    RouterLink,
    FilterBox,
    InView,
    ListKeys,
    LimitOfAll,
    SavedFilters,
    CdkVirtualScrollViewport,
    CdkFixedSizeVirtualScroll,
    CdkVirtualForOf,
    StateMark,
    ...formatPipes,
  ],
  templateUrl: './runs-page.html',
  styleUrl: './runs-page.scss',
})
export class RunsPage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  protected readonly session = inject(Session);
  readonly kinds = input<string>();
  readonly states = input<string>();
  readonly hours = input<string>();
  readonly from = input<string>();
  readonly to = input<string>();
  readonly workload = input<string>();
  readonly source = input<string>();
  readonly policy = input<string>();
  readonly ids = input<string>();
  readonly expired = input<string>();
  readonly q = input<string>();
  readonly sort = input<string>();
  protected readonly spans = spans;
  protected readonly stateGroups = stateGroups;
  protected readonly kindGroups = kindGroups;
  protected readonly word = stateWord;
  protected readonly warns = unfinishedStates;
  protected readonly selected = signal(0);

  private readonly query = computed((): QueryInput<'listRuns'> => {
    const hours = Number(this.hours());
    return {
      kinds: this.kinds() ?? (this.ids() ? undefined : 'backup,restore,download,trial'),
      states: this.states(),
      workload: this.workload(),
      source: this.source(),
      policy: this.policy(),
      ids: this.ids(),
      q: this.q(),
      sort: this.sort(),
      expired: this.expired() === 'no' ? 'no' : undefined,
      from: hours > 0 ? Math.floor((this.session.now() - hours * hour) / 60_000) * 60_000 : this.from(),
      to: this.to(),
      limit: 200,
    };
  });
  private readonly result = toSignal(
    combineLatest([toObservable(this.query), inject(Live).ticks((e) => e.kind === 'run' || e.kind === 'progress', 1500)]).pipe(
      debounceTime(30),
      switchMap(([query]) => this.api.call('listRuns', { query }).pipe(outcome())),
    ),
  );
  private readonly more = signal<readonly RunRow[]>([]);
  protected readonly next = signal<string | null>(null);
  protected readonly failure = computed(() => this.result()?.failure);
  protected readonly total = computed(() => this.result()?.value?.total ?? null);
  protected readonly rows = computed(() => [...(this.result()?.value?.rows ?? []), ...this.more()]);
  protected readonly policies = toSignal(this.api.call('listPolicies').pipe(outcome()));
  protected readonly narrowed = computed(() =>
    [this.workload(), this.source(), this.policy(), this.ids(), this.from(), this.to()].some(Boolean),
  );

  /** What is filtered, as it stands in the address. */
  protected readonly filter = computed(() => {
    const { kinds, states, hours, from, to, workload, source, policy, expired, q, sort } = this;
    const parts = { kinds, states, hours, from, to, workload, source, policy, expired, q, sort };
    return Object.fromEntries(Object.entries(parts).flatMap(([key, value]) => (value() ? [[key, value()!]] : [])));
  });

  constructor() {
    effect(() => {
      const value = this.result()?.value;
      untracked(() => {
        this.more.set([]);
        this.next.set(value?.next ?? null);
      });
    });
  }

  protected patch(query: Record<string, string | null>): void {
    void this.router.navigate([], { queryParams: query, queryParamsHandling: 'merge', replaceUrl: true });
  }

  protected sortBy(key: string): void {
    const now = this.sort() ?? '-id';
    this.patch({ sort: now === `-${key}` ? key : `-${key}` });
  }

  protected reached(index: number): void {
    const cursor = this.next();
    if (!cursor || index < this.rows().length - 60) return;
    this.next.set(null);
    this.api.call('listRuns', { query: { ...this.query(), cursor } }).subscribe((page) => {
      this.more.update((rows) => [...rows, ...page.rows]);
      this.next.set(page.next);
    });
  }

  /** Kinds whose names do not say what they are. */
  protected readonly unnamed: ReadonlySet<string> = new Set(['restore', 'download', 'trial']);
  protected byId = (_: number, run: RunRow) => run.id;

  protected names(run: RunRow): string {
    const names = run.workloads.map((w) => w.name);
    return formatFirst(names, names.length, run.workloadCount);
  }

  protected took(run: RunRow): number | null {
    return run.startedAt === null ? null : (run.endedAt ?? this.session.now()) - run.startedAt;
  }

  protected csv(): void {
    const rows = this.rows().map((r) => [
      r.id,
      r.kind,
      r.name,
      this.names(r),
      this.word(r.state),
      r.startedAt ? new Date(r.startedAt).toISOString() : '',
      r.endedAt ? new Date(r.endedAt).toISOString() : '',
      r.counts.items,
      r.counts.bytes,
      r.counts.read,
      r.counts.stored,
      r.cause?.message ?? '',
    ]);
    const head = [
      'run',
      'kind',
      'name',
      'workloads',
      'state',
      'started',
      'ended',
      'items',
      'bytes',
      'bytes read',
      'bytes written',
      'cause',
    ];
    const link = document.createElement('a');
    link.href = URL.createObjectURL(new Blob([stringify([head, ...rows])], { type: 'text/csv' }));
    link.download = 'runs.csv';
    link.click();
    URL.revokeObjectURL(link.href);
  }

  protected open(index: number): void {
    const run = this.rows()[index];
    if (run) void this.router.navigate(['/runs', run.id]);
  }
}
