import { ChangeDetectionStrategy, Component, computed, effect, inject, input, signal, untracked } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { Router, RouterLink } from '@angular/router';
import type { BodyInput, RestorePlan } from '@lithodex/contract';
import { formatMoment } from '@lithodex/core';
import { NamespaceName, type ApplicationAddress, type ApplicationLook, type RewriteSet } from '@lithodex/kinds';
import { debounceTime, forkJoin, of, switchMap } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { Moment } from '../data/moment';
import { outcome, type Outcome } from '../data/outcome';
import { Session } from '../data/session';
import { RewriteRows } from '../estate/rewrite-rows';
import { kindWord } from '../kinds/application-words';
import { Checks } from '../ui/checks';
import { formatPipes } from '../ui/format-pipes';
import { Slot, type SlotOption } from '../ui/slot';
import { StateMark } from '../ui/state-mark';
import { MoveLanes } from './move-lanes';

type Rewrites = RewriteSet['rewrites'];
type Pointing = ApplicationLook['pointing'][number];
const mostPoints = 40;

/** An application on its way to another cluster: in which order, what is rewritten, and what would still lead to the old place. */
@Component({
  selector: 'lx-move-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Checks, FormsModule, MoveLanes, RewriteRows, RouterLink, Slot, StateMark, ...formatPipes],
  templateUrl: './move-page.html',
  styleUrls: ['./second-page.scss', './move-page.scss'],
})
export class MovePage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  private readonly moment = inject(Moment);
  protected readonly session = inject(Session);
  /** Of the workload. */
  readonly id = input.required<string>();
  readonly point = input<string>();
  /** Of the cluster it goes to. */
  readonly to = input<string>();
  readonly ns = input<string>();
  /** Name of the rewrites that are defined there. */
  readonly set = input<string>();
  readonly start = input<boolean, string | undefined>(true, { transform: (s) => s !== 'no' });
  readonly volumes = input<boolean, string | undefined>(true, { transform: (s) => s !== 'no' });
  readonly rule = input<'leave' | 'replace', string | undefined>('leave', { transform: (r) => (r === 'replace' ? r : 'leave') });
  protected readonly reason = signal('');
  protected readonly agreed = signal<ReadonlySet<string>>(new Set());
  protected readonly problem = signal('');
  protected readonly busy = signal(false);
  /** Rewrites as they were changed here; null for those of the set. */
  private readonly edited = signal<Rewrites | null>(null);
  protected readonly editing = signal(false);

  private readonly loaded = toSignal(
    toObservable(this.id).pipe(
      switchMap((id) => forkJoin({ workload: this.api.call('workload', { id }), systems: this.api.call('listSystems') }).pipe(outcome())),
    ),
  );
  protected readonly failure = computed(() => this.loaded()?.failure?.message);
  protected readonly workload = computed(() => this.loaded()?.value?.workload);
  private readonly points = computed(() => (this.workload()?.pointList ?? []).filter((p) => p.facts?.kind === 'application'));
  protected readonly taken = computed(() => {
    const asked = this.points().find((p) => p.id === this.point());
    const at = this.moment.at();
    return asked ?? (at === null ? this.points().at(-1) : this.points().findLast((p) => p.moment <= at));
  });
  protected readonly pointOptions = computed((): SlotOption<string>[] =>
    this.points()
      .slice(-mostPoints)
      .reverse()
      .map((p) => ({ value: p.id, label: formatMoment(p.moment, this.session.zone()) })),
  );
  private readonly all = computed(() => (this.loaded()?.value?.systems.rows ?? []).filter((s) => s.address.kind === 'application'));
  protected readonly clusters = computed((): SlotOption<number>[] =>
    this.all().map((s) => ({ value: s.id, label: s.name, ...(s.id === this.workload()?.source.id && { note: 'where it was' }) })),
  );
  /** Another one than it came from, if there is any. */
  protected readonly cluster = computed(() => {
    const asked = this.all().find((s) => String(s.id) === this.to());
    return asked ?? this.all().find((s) => s.id !== this.workload()?.source.id) ?? this.all()[0];
  });
  private readonly sets = computed(() => (this.cluster()?.address as ApplicationAddress | undefined)?.rewrites ?? []);
  protected readonly chosenSet = computed(
    () => this.sets().find((s) => s.name === this.set()) ?? (this.set() === '' ? undefined : this.sets()[0]),
  );
  protected readonly setOptions = computed((): SlotOption<string>[] => [
    ...this.sets().map((s) => ({ value: s.name, label: `the rewrites “${s.name}”` })),
    { value: '', label: 'no rewrites' },
  ]);
  protected readonly rewrites = computed(() => this.edited() ?? this.chosenSet()?.rewrites ?? []);
  protected readonly isEdited = computed(() => this.edited() !== null);
  protected readonly namespace = computed(() => {
    const facts = this.taken()?.facts;
    return this.ns() ?? (facts?.kind === 'application' ? facts.namespace : '');
  });
  protected readonly rules: SlotOption<'leave' | 'replace'>[] = [
    { value: 'leave', label: 'stays as it is' },
    { value: 'replace', label: 'is made as it was', note: 'volumes come beside, and it is switched to them' },
  ];
  protected readonly starting: SlotOption<boolean>[] = [
    { value: true, label: 'started when volumes are whole' },
    { value: false, label: 'not started', note: 'what runs is made with no pods' },
  ];
  protected readonly taking: SlotOption<boolean>[] = [
    { value: true, label: 'with its volumes' },
    { value: false, label: 'without its volumes' },
  ];

  private readonly body = computed((): BodyInput<'planRestore'> | null => {
    const [point, cluster] = [this.taken(), this.cluster()];
    if (!point || !cluster || !NamespaceName.safeParse(this.namespace()).success) return null;
    return {
      name: `${this.workload()!.name} to ${cluster.name}`.slice(0, 110),
      picks: [{ pointId: point.id, path: '' }],
      destination: {
        to: 'application',
        systemId: cluster.id,
        namespace: this.namespace(),
        rewrites: this.rewrites().filter((r) => r.from !== '' || r.path !== ''),
        start: this.start(),
        volumes: this.volumes(),
      },
      rule: this.rule(),
    };
  });
  private readonly asked = toSignal(
    toObservable(this.body).pipe(
      debounceTime(300),
      switchMap((body) => (body ? this.api.call('planRestore', { body }).pipe(outcome<RestorePlan>()) : of<Outcome<RestorePlan>>({}))),
    ),
  );
  protected readonly plan = computed(() => (this.body() ? this.asked()?.value : undefined));
  protected readonly look = computed(() => this.plan()?.application);
  protected readonly planFailure = computed(() => (this.body() ? this.asked()?.failure?.message : undefined));
  protected readonly looks = computed(() => (this.plan()?.checks ?? []).filter((c) => c.level === 'look' && c.code !== 'STILL_POINTING'));
  protected readonly quiet = computed(() => (this.plan()?.checks ?? []).filter((c) => c.level !== 'look'));
  protected readonly pointing = computed(() => {
    const rows = new Map<string, Pointing & { readonly places: number }>();
    for (const p of this.look()?.pointing ?? []) {
      const key = `${p.kind} ${p.name} ${p.names}`;
      rows.set(key, { ...p, places: (rows.get(key)?.places ?? 0) + 1 });
    }
    return [...rows.values()];
  });
  /** What rewrites change, by resource. */
  protected readonly changes = computed(() => {
    const groups = new Map<string, { readonly title: string; readonly rows: ApplicationLook['changes'] }>();
    for (const c of this.look()?.changes ?? []) {
      const title = `${kindWord(c.kind)} ${c.name}`;
      if (!groups.has(title)) groups.set(title, { title, rows: [] });
      groups.get(title)!.rows.push(c);
    }
    return [...groups.values()];
  });
  protected readonly missing = computed(() => {
    const plan = this.plan();
    if (!plan) return 'when the plan is there';
    if (plan.checks.some((c) => c.level === 'stop')) return 'when nothing stands in the way';
    const open = plan.checks.filter((c) => c.level === 'look' && !this.agreed().has(c.code)).length;
    if (open) return `after ${open} ${open === 1 ? 'answer' : 'answers'}`;
    return this.reason().trim().length < 3 ? 'when you say why' : '';
  });

  constructor() {
    // other rewrites are others to agree with
    effect(() => {
      this.body();
      untracked(() => {
        this.agreed.set(new Set());
      });
    });
  }

  protected readonly kindWord = kindWord;
  protected fieldOf(path: readonly string[]): string {
    const named = path.filter((part) => !/^\d+$/.test(part));
    return named.at(-1) ?? '';
  }
  protected patch(query: Record<string, string | number | null>): void {
    void this.router.navigate([], { queryParams: query, queryParamsHandling: 'merge', replaceUrl: true });
  }
  protected chooseCluster(to: number): void {
    this.edited.set(null);
    this.patch({ to, set: null });
  }
  protected chooseSet(set: string): void {
    this.edited.set(null);
    this.patch({ set });
  }
  protected edit(rewrites: Rewrites): void {
    this.edited.set(rewrites);
  }
  /** A row for it; what it becomes is for a person to say, beginning with the name the new place has. */
  protected rewriteToo({ names, to }: Pointing): void {
    const address = this.cluster()?.address as ApplicationAddress;
    const there = to === 'class' ? '' : (address.domains[0] ?? '');
    this.edited.set([...this.rewrites(), { kind: '', path: '', from: names, to: there }]);
    this.editing.set(true);
  }
  protected agree(code: string): void {
    this.agreed.update((a) => new Set([...a, code]));
  }

  protected go(trial: boolean): void {
    const body = this.body();
    if (!body) return;
    this.busy.set(true);
    this.problem.set('');
    const reason = this.reason().trim() || 'tried before it is needed';
    this.api.call('startRestore', { body: { ...body, trial, reason } }).subscribe({
      next: ({ runId }) => void this.router.navigate(['/runs', runId]),
      error: (f: ApiFailure) => {
        this.busy.set(false);
        this.problem.set(f.message);
      },
    });
  }
}
