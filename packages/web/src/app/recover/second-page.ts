import { ChangeDetectionStrategy, Component, computed, DestroyRef, inject, input, signal } from '@angular/core';
import { takeUntilDestroyed, toObservable, toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { Router, RouterLink } from '@angular/router';
import type { BandCommits, BodyInput, RestorePlan, WorkloadDetail } from '@lithodex/contract';
import { countOf, formatDuration, formatList, formatMoment, objectNameOf, unescapePath } from '@lithodex/core';
import { DateTime } from 'luxon';
import { catchError, debounceTime, forkJoin, from, map, of, switchMap } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { Live } from '../data/live';
import { Moment } from '../data/moment';
import { outcome, type Outcome } from '../data/outcome';
import { Session } from '../data/session';
import { Checks } from '../ui/checks';
import { formatPipes } from '../ui/format-pipes';
import { Slot, type SlotOption } from '../ui/slot';
import { RescueTick } from './rescue-tick';
import { StateMark } from '../ui/state-mark';
import { SecondBand } from './second-band';

type Commit = BandCommits['rows'][number];
type Rule = 'leave' | 'replace' | 'beside';
const around = { before: 6, after: 8 };
const mostDatabases = 50;
const mostTables = 500;

/** A second of a database server: the band, the commits around it, and what is to be brought back of it. */
@Component({
  selector: 'lx-second-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, RouterLink, SecondBand, Slot, Checks, RescueTick, StateMark, ...formatPipes],
  templateUrl: './second-page.html',
  styleUrl: './second-page.scss',
})
export class SecondPage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  private readonly live = inject(Live);
  private readonly moment = inject(Moment);
  private readonly destroyed = inject(DestroyRef);
  protected readonly session = inject(Session);
  /** Of the workload. */
  readonly id = input.required<string>();
  /** `file@position` of the commit right before which it is to be. */
  readonly commit = input<string>();
  /** What of it: a path of the full; '' for everything. */
  readonly what = input<string>();
  readonly to = input<string>();
  readonly as = input<string>();
  readonly rule = input<Rule, string | undefined>('beside', { transform: (r) => (r === 'leave' || r === 'replace' ? r : 'beside') });
  protected readonly reason = signal('');
  protected readonly agreed = signal<ReadonlySet<string>>(new Set());
  protected readonly problem = signal('');
  protected readonly busy = signal(false);

  private readonly loaded = toSignal(
    toObservable(this.id).pipe(
      switchMap((id) =>
        this.live.reloading(
          () => forkJoin({ workload: this.api.call('workload', { id }), band: this.api.call('databaseBand', { id }) }).pipe(outcome()),
          (e) => e.kind === 'point',
        ),
      ),
    ),
  );
  protected readonly workload = computed(() => this.loaded()?.value?.workload);
  protected readonly band = computed(() => this.loaded()?.value?.band);
  protected readonly newest = computed(() => this.band()?.stretches.at(-1)?.to ?? null);
  protected readonly notable = computed(() => (this.band()?.notable ?? []).slice(-4).reverse());
  /** The second that is chosen; the newest there is while none is. */
  protected readonly at = computed(() => this.moment.at() ?? this.newest() ?? this.session.now());
  protected readonly chosen = computed(() => this.commit() ?? null);
  /** The full that leads there. */
  private readonly full = computed(() => this.fullTo(this.at()));
  private fullTo(at: number) {
    return this.band()?.fulls.findLast((f) => f.logged && f.moment <= at);
  }

  private readonly found = toSignal(
    toObservable(computed(() => ({ id: this.id(), at: this.at(), ready: (this.band()?.stretches.length ?? 0) > 0 }))).pipe(
      debounceTime(150),
      switchMap(({ id, at, ready }) =>
        ready
          ? this.api.call('databaseCommits', { id, query: { at, ...around } }).pipe(outcome<BandCommits>())
          : of<Outcome<BandCommits>>({}),
      ),
    ),
  );
  protected readonly commits = computed(() => this.found()?.value?.rows ?? []);
  protected readonly commitsFailure = computed(() => this.found()?.failure?.message);

  /** Databases and tables of the full, by path. */
  private readonly tree = toSignal(
    toObservable(computed(() => this.full()?.pointId)).pipe(switchMap((pointId) => (pointId ? this.objectsOf(pointId) : of([])))),
    { initialValue: [] as string[] },
  );
  private objectsOf(pointId: string) {
    const rows = (path: string, limit: number) => this.api.call('tree', { id: pointId, query: { path, limit } }).pipe(map((t) => t.rows));
    return rows('', mostDatabases).pipe(
      switchMap((top) => {
        const databases = top.filter((r) => r.kind === 'folder').map((r) => r.path);
        if (!databases.length) return of([]);
        return forkJoin(databases.map((path) => rows(`${path}/tables`, mostTables).pipe(outcome()))).pipe(
          map((tables) => databases.flatMap((path, i) => [path, ...(tables[i]?.value ?? []).map((t) => t.path)])),
        );
      }),
      catchError(() => of<string[]>([])),
    );
  }
  protected readonly picked = computed(() => this.what() ?? '');
  protected readonly objects = computed((): SlotOption<string>[] => [
    { value: '', label: 'all databases' },
    ...this.tree().map((path) => ({ value: path, label: nameOf(path), note: path.includes('/') ? databaseOf(path) : 'database' })),
  ]);
  protected readonly pickedDatabase = computed(() => (this.picked() ? databaseOf(this.picked()) : ''));
  protected readonly asName = computed(() => this.as() ?? '');

  private readonly systems = toSignal(inject(Session).reads() ? this.api.call('listSystems').pipe(outcome()) : of(undefined));
  protected readonly servers = computed((): SlotOption<string>[] => [
    { value: '', label: this.workload()?.name ?? 'the same server', note: 'where it came from' },
    ...(this.session.reads()
      ? [{ value: 'scratch', label: 'a scratch server, to look into it first', note: 'nothing else is written' }]
      : []),
    ...(this.systems()?.value?.rows ?? [])
      .filter((s) => s.address.kind === 'database' && s.id !== this.workload()?.source.id)
      .map((s) => ({ value: String(s.id), label: s.name })),
  ]);
  protected readonly server = computed(() => this.to() ?? '');
  /** It is only looked into. */
  protected readonly looking = computed(() => this.server() === 'scratch');
  protected readonly stays: SlotOption<number>[] = [30, 120, 480].map((minutes) => ({
    value: minutes,
    label: formatDuration(minutes * 60_000),
  }));
  protected readonly minutes = signal(120);
  protected readonly rules: SlotOption<Rule>[] = [
    { value: 'beside', label: 'put the restored one beside it' },
    { value: 'leave', label: 'leave it as it is' },
    { value: 'replace', label: 'replace it' },
  ];

  protected readonly rescue = signal(true);

  private readonly body = computed((): BodyInput<'planRestore'> | null => {
    const full = this.full();
    if (!full) return null;
    const [from, name] = [this.pickedDatabase(), this.asName().trim()];
    const elsewhere = this.server() !== '' || (from && name && name !== from);
    const [file = '', position] = (this.chosen() ?? '').split('@');
    return {
      name: `${this.picked() ? nameOf(this.picked()) : 'Everything'} of ${this.workload()?.name ?? ''}`.slice(0, 110),
      picks: [{ pointId: full.pointId, path: this.picked() }],
      destination: this.looking()
        ? { to: 'scratch', minutes: this.minutes() }
        : elsewhere
          ? {
              to: 'server',
              systemId: Number(this.server()) || this.workload()!.source.id,
              databases: from && name ? [{ from, to: name }] : [],
            }
          : { to: 'original' },
      rule: this.looking() ? 'leave' : this.rule(),
      rescue: this.rescue(),
      until: position === undefined ? { at: this.at() } : { file, position: Number(position), at: this.at() },
    };
  });
  private readonly planned = toSignal(
    toObservable(this.body).pipe(
      debounceTime(250),
      switchMap((body) => (body ? this.api.call('planRestore', { body }).pipe(outcome<RestorePlan>()) : of<Outcome<RestorePlan>>({}))),
    ),
  );
  protected readonly plan = computed(() => (this.body() ? this.planned()?.value : undefined));
  protected readonly planFailure = computed(() => (this.body() ? this.planned()?.failure?.message : 'No full leads to this moment.'));
  protected readonly looks = computed(() => (this.plan()?.checks ?? []).filter((c) => c.level === 'look'));
  protected readonly quiet = computed(() => (this.plan()?.checks ?? []).filter((c) => c.level !== 'look'));
  protected readonly missing = computed(() => {
    const plan = this.plan();
    if (!plan) return 'when the plan is there';
    if (plan.checks.some((c) => c.level === 'stop')) return 'when nothing stands in the way';
    if (this.looks().some((c) => !this.agreed().has(c.code))) return 'after an answer';
    return this.reason().trim().length < 3 ? 'when you say why' : '';
  });
  protected readonly chain = computed(() => {
    const [full, log] = [this.full(), this.band()?.log];
    if (!full || !log) return [];
    const zone = this.session.zone();
    const until = `${formatMoment(full.moment, zone)} to ${this.clock(this.at())}`;
    return [
      { name: 'full', text: formatMoment(full.moment, zone), bytes: full.bytes, colour: 'var(--full)' },
      { name: 'log', text: until, bytes: log.bytes, colour: 'var(--band)' },
      {
        name: this.picked() ? nameOf(this.picked()) : 'all',
        text: 'from a scratch server of the mover',
        bytes: null,
        colour: 'var(--lapis)',
      },
    ];
  });
  /** Commits seen that are after the chosen moment. */
  protected readonly lost = computed(() => {
    const n = this.commits().filter((c) => this.isLost(c)).length;
    return this.rule() === 'replace' && !this.looking() ? (n === around.after ? `${n} and more` : String(n)) : '0';
  });

  /** How new the newest second is, against what was promised. */
  protected standing({ objectiveHours }: WorkloadDetail): string {
    const newest = this.newest();
    const minutes = this.band()?.objectiveMinutes ?? null;
    const parts = [
      newest === null ? '' : `newest second ${formatDuration(Math.max(0, this.session.now() - newest))} old`,
      minutes === null ? (objectiveHours === null ? '' : `objective ${objectiveHours} h`) : `objective ${formatDuration(minutes * 60_000)}`,
    ];
    return parts.filter(Boolean).join(', ');
  }

  protected readonly local = computed(() =>
    DateTime.fromMillis(this.at(), { zone: this.session.zone() }).toFormat("yyyy-MM-dd'T'HH:mm:ss"),
  );
  protected readonly seconds = computed(() => this.clock(this.at()).slice(-2));
  /** Of a commit: the day too, where it is another than the chosen one. */
  protected when(at: number): string {
    const [local, chosen] = [at, this.at()].map((t) => DateTime.fromMillis(t, { zone: this.session.zone() })) as [DateTime, DateTime];
    return local.hasSame(chosen, 'day') ? this.clock(at) : local.toFormat('d LLL HH:mm:ss');
  }
  protected clock(at: number): string {
    return DateTime.fromMillis(at, { zone: this.session.zone() }).toFormat('HH:mm:ss');
  }

  protected readonly keyOf = (c: Commit): string => `${c.file}@${c.position}`;
  protected isNotable(c: Commit): boolean {
    return (this.band()?.notable ?? []).some((n) => this.keyOf(n) === this.keyOf(c));
  }
  /** The last commit that would be there. */
  protected isLast(c: Commit): boolean {
    return this.commits().findLast((other) => !this.isLost(other)) === c;
  }
  protected isLost(c: Commit): boolean {
    const [file, position] = (this.chosen() ?? '').split('@');
    return position === undefined ? c.at > this.at() : c.file === file ? c.position >= Number(position) : c.at > this.at();
  }
  protected changes(c: Commit): string {
    return formatList([...new Set(c.tables.map((t) => t.change))]);
  }
  protected tables(c: Commit): string {
    return [...new Set(c.tables.map((t) => t.table || t.database))].join(', ');
  }
  protected rowsOf(c: Commit): number {
    return c.tables.reduce((sum, t) => sum + t.rows, 0);
  }
  protected goneBy(c: Commit): string {
    const gone = c.tables.find((t) => t.change === 'deleted');
    return gone ? `${countOf(gone.rows, 'row')} of ${gone.table}` : c.statement.slice(0, 50);
  }

  protected patch(query: Record<string, string | number | null>): Promise<boolean> {
    this.agreed.set(new Set());
    return this.router.navigate([], { queryParams: query, queryParamsHandling: 'merge', replaceUrl: true });
  }
  protected choose(at: number): void {
    void this.patch({ at, commit: null });
  }
  protected type(local: string): void {
    const at = DateTime.fromISO(local, { zone: this.session.zone() });
    if (at.isValid && at.toMillis() !== this.at()) this.choose(at.toMillis());
  }
  /** The moment right before a commit; the table it touched is what one most likely wants. */
  protected before(c: Commit): void {
    const moved = this.patch({ at: c.at, commit: this.keyOf(c) });
    const [gone, full] = [c.tables.find((t) => t.table), this.fullTo(c.at)];
    if (!gone || !full || this.what() !== undefined) return;
    from(moved)
      .pipe(
        switchMap(() => this.objectsOf(full.pointId)),
        takeUntilDestroyed(this.destroyed),
      )
      .subscribe((paths) => {
        const path = paths.find((p) => p.includes('/') && nameOf(p) === gone.table && databaseOf(p) === gone.database);
        if (path && this.what() === undefined && this.chosen() === this.keyOf(c)) void this.patch({ what: path });
      });
  }
  protected pick(path: string): void {
    void this.patch({ what: path || null, as: null });
  }
  protected agree(code: string): void {
    this.agreed.update((a) => new Set([...a, code]));
  }

  protected start(): void {
    const body = this.body();
    if (!body) return;
    this.busy.set(true);
    this.problem.set('');
    this.api.call('startRestore', { body: { ...body, reason: this.reason().trim() } }).subscribe({
      next: ({ runId }) => void this.router.navigate(['/runs', runId]),
      error: (f: ApiFailure) => {
        this.busy.set(false);
        this.problem.set(f.message);
      },
    });
  }
}

const last = (path: string) => path.slice(path.lastIndexOf('/') + 1);
/** Name of a database or table at a path of a full. */
function nameOf(path: string): string {
  const name = objectNameOf(unescapePath(last(path)));
  return path.includes('/') ? name.replace(/\.sql$/, '') : name;
}
const databaseOf = (path: string) => objectNameOf(unescapePath(path.split('/')[0]!));
