import { ChangeDetectionStrategy, Component, computed, inject, input, linkedSignal, signal, viewChild } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { Router, RouterLink } from '@angular/router';
import type { BodyInput, RestorePlan } from '@lithodex/contract';
import { countOf, cutMiddle, objectNameOf, unescapePath } from '@lithodex/core';
import { debounceTime, of, switchMap } from 'rxjs';
import { addressOf, Api, type ApiFailure } from '../data/api';
import { outcome, type Outcome } from '../data/outcome';
import { Picks, type PickedItem } from '../data/picks';
import { Session } from '../data/session';
import { Checks } from '../ui/checks';
import { formatPipes } from '../ui/format-pipes';
import { Slot, type SlotOption } from '../ui/slot';
import { StateMark } from '../ui/state-mark';
import { MachineOwn, type OwnPlace } from './machine-own';
import { MachinePlace, type NewPlace } from './machine-place';

/** Last part of a path; the whole of a workload has none. */
function nameOrAll(path: string): string {
  return path === '' ? 'Everything' : path.slice(path.lastIndexOf('/') + 1);
}

type To = 'original' | 'folder' | 'platform' | 'server' | 'tar' | 'zip' | 'file' | 'qcow2' | 'ova';
type Rule = 'leave' | 'replace' | 'replaceIfOlder' | 'beside';

const allRules: readonly SlotOption<Rule>[] = [
  { value: 'leave', label: 'leave it as it is' },
  { value: 'replace', label: 'replace it' },
  { value: 'replaceIfOlder', label: 'replace it if it is older' },
  { value: 'beside', label: 'put the restored one beside it' },
];

/** The restore sheet: what, where to, what if it exists, plan and reason on one page. */
@Component({
  selector: 'lx-sheet-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, RouterLink, MachineOwn, MachinePlace, Slot, Checks, StateMark, ...formatPipes],
  templateUrl: './sheet-page.html',
  styleUrl: './sheet-page.scss',
})
export class SheetPage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  protected readonly session = inject(Session);
  protected readonly picks = inject(Picks);
  readonly damaged = input<string>();
  readonly from = input<string>();
  protected readonly to = signal<To>('original');
  protected readonly folder = signal('');
  protected readonly keepPath = signal(true);
  protected readonly rule = signal<Rule>('leave');
  /** Id of the target to read from; '' for the best. */
  protected readonly readFrom = signal('');
  protected readonly reason = signal('');
  protected readonly name = signal('');
  protected readonly agreed = signal<ReadonlySet<string>>(new Set());
  protected readonly problem = signal('');
  protected readonly busy = signal(false);

  protected readonly places = computed((): SlotOption<To>[] => {
    if (this.machines()) return this.machinePlaces();
    if (this.databases()) return this.databasePlaces();
    const all: SlotOption<To>[] = [
      { value: 'original', label: 'where they came from' },
      { value: 'folder', label: 'another folder on the mover' },
      { value: 'tar', label: 'me, as a tar archive' },
      { value: 'zip', label: 'me, as a zip archive' },
    ];
    const single = this.picks.items().length === 1 && this.picks.items()[0]!.kind === 'file' && !this.damaged();
    if (single) all.push({ value: 'file', label: 'me, as the file itself' });
    return this.session.keeps() ? all : all.slice(0, 1);
  });
  private databasePlaces(): SlotOption<To>[] {
    const all: SlotOption<To>[] = [
      { value: 'original', label: 'the server they came from' },
      { value: 'server', label: 'another server or name' },
      { value: 'zip', label: 'me, as a zip archive of text' },
      { value: 'tar', label: 'me, as a tar archive of text' },
    ];
    const [first, ...others] = this.picks.items();
    if (!others.length && first?.kind === 'file') all.push({ value: 'file', label: 'me, as text' });
    return this.session.keeps() ? all : all.slice(0, 1);
  }
  private machinePlaces(): SlotOption<To>[] {
    const [first, ...others] = this.picks.items();
    const all: SlotOption<To>[] = [{ value: 'original', label: 'where they were, over what is there' }];
    if (this.picks.items().every((p) => p.path === '')) all.push({ value: 'platform', label: 'a platform, as new machines' });
    if (!others.length && first?.path === '') all.push({ value: 'ova', label: 'me, as an OVF package' });
    if (!others.length && first?.path.startsWith('disks/'))
      all.push({ value: 'file', label: 'me, as a raw disk' }, { value: 'qcow2', label: 'me, as a QCOW2 disk' });
    return this.session.keeps() ? all : all.slice(0, 1);
  }
  protected readonly starts: SlotOption<boolean>[] = [
    { value: false, label: 'leave them off' },
    { value: true, label: 'start them' },
  ];
  protected readonly rules = computed(() => (this.databases() ? allRules.filter((r) => r.value !== 'replaceIfOlder') : allRules));
  protected readonly servers = computed((): SlotOption<number>[] =>
    (this.systems()?.value?.rows ?? []).map((s) => ({ value: s.id, label: s.name })),
  );
  /** The server that databases go to, and the name of the only one that is picked. */
  protected readonly system = signal<number | null>(null);
  protected readonly asName = signal('');
  protected readonly onlyDatabase = computed(() => {
    const names = new Set(this.picks.items().map((p) => p.path.split('/')[0]!));
    const [name] = names;
    return names.size === 1 && name ? objectNameOf(unescapePath(name)) : '';
  });
  protected readonly paths: SlotOption<boolean>[] = [
    { value: true, label: 'keeping' },
    { value: false, label: 'without' },
  ];
  protected readonly copies = computed((): SlotOption<string>[] => [
    { value: '', label: 'the best copy', note: 'a disk before a bucket' },
    ...(this.plan()?.copies ?? []).map((c) => ({ value: c.targetId, label: c.target })),
  ]);
  protected readonly isDownload = computed(() => !['original', 'folder', 'platform', 'server'].includes(this.to()));
  /** Where new machines go, and what is different for some of them, by point. */
  protected readonly place = signal<NewPlace | null>(null);
  protected readonly owns = signal<ReadonlyMap<string, OwnPlace>>(new Map());
  private readonly machinePlace = viewChild(MachinePlace);
  protected readonly storages = computed(() => this.machinePlace()?.storages() ?? []);
  protected readonly startThem = signal(false);

  private readonly body = computed((): BodyInput<'planRestore'> | null => {
    const damaged = this.damaged();
    if (!this.picks.items().length && !damaged) return null;
    const to = this.to();
    if (to === 'folder' && !this.folder().startsWith('/')) return null;
    const place = this.place();
    if (to === 'platform' && !(place?.host && place.storage)) return null;
    const system = this.system();
    if (to === 'server' && system === null) return null;
    const destination: BodyInput<'planRestore'>['destination'] =
      to === 'original'
        ? { to }
        : to === 'server'
          ? { to, systemId: system!, databases: this.renamed() }
          : to === 'platform'
            ? { to, ...place!, exceptions: [...this.owns()].map(([pointId, own]) => ({ pointId, ...own })) }
            : to === 'folder'
              ? { to, folder: this.folder(), keepPath: this.keepPath() }
              : { to: 'download', format: to };
    return {
      name: this.name().trim() || this.suggested(),
      picks: damaged ? [] : this.picks.items().map(({ pointId, path }) => ({ pointId, path })),
      ...(damaged && { damagedIn: damaged }),
      destination,
      rule: this.rule(),
      start: this.startThem(),
      readFrom: this.readFrom() || null,
    };
  });

  private renamed(): { from: string; to: string }[] {
    const [from, to] = [this.onlyDatabase(), this.asName().trim()];
    return from && to ? [{ from, to }] : [];
  }

  protected readonly suggested = computed(() => {
    if (this.damaged()) return `Damaged files of ${this.from() ?? 'a workload'}`;
    const names = [...new Set(this.picks.items().map((p) => p.workload))];
    return names.length
      ? `${this.picks.items().length === 1 ? nameOrAll(this.picks.items()[0]!.path) : 'Items'} of ${names.join(', ')}`.slice(0, 110)
      : 'Restore';
  });

  private readonly planned = toSignal(
    toObservable(this.body).pipe(
      debounceTime(200),
      switchMap((body) => (body ? this.api.call('planRestore', { body }).pipe(outcome<RestorePlan>()) : of<Outcome<RestorePlan>>({}))),
    ),
  );
  protected readonly plan = computed(() => (this.body() ? this.planned()?.value : undefined));
  /** Whether all picks are of machines; as known last while no plan can be made. */
  protected readonly machines = linkedSignal<RestorePlan | undefined, boolean>({
    source: this.plan,
    computation: (plan, before) => (plan ? plan.items.length > 0 && plan.items.every((i) => i.machine) : (before?.value ?? false)),
  });
  /** Whether all picks are of database servers. */
  protected readonly databases = linkedSignal<RestorePlan | undefined, boolean>({
    source: this.plan,
    computation: (plan, before) => (plan ? plan.items.length > 0 && plan.items.every((i) => i.database) : (before?.value ?? false)),
  });
  private readonly systems = toSignal(
    toObservable(this.databases).pipe(
      switchMap((are) => (are && this.session.keeps() ? this.api.call('listSystems').pipe(outcome()) : of(undefined))),
    ),
  );
  protected readonly failure = computed(() => this.planned()?.failure);
  protected readonly openChecks = computed(() =>
    (this.plan()?.checks ?? []).filter((c) => c.level === 'look' && !this.agreed().has(c.code)),
  );
  protected readonly stops = computed(() => (this.plan()?.checks ?? []).filter((c) => c.level === 'stop'));
  protected readonly quiet = computed(() => (this.plan()?.checks ?? []).filter((c) => c.level !== 'look'));
  protected readonly looks = computed(() => (this.plan()?.checks ?? []).filter((c) => c.level === 'look'));
  protected readonly missing = computed(() => {
    if (!this.plan()) return 'when the plan is there';
    if (this.stops().length) return 'when nothing stands in the way';
    if (this.openChecks().length) return this.openChecks().length === 1 ? 'after 1 answer' : `after ${this.openChecks().length} answers`;
    return this.reason().trim().length < 3 ? 'when you say why' : '';
  });
  protected readonly moments = computed(() => new Set((this.plan()?.items ?? []).map((i) => i.moment)).size);

  protected readonly cut = cutMiddle;

  protected sources(plan: RestorePlan): string {
    return plan.readFrom.map((r) => `${r.target} (${countOf(r.points, 'point')})`).join(', ');
  }

  protected agree(code: string): void {
    this.agreed.update((a) => new Set([...a, code]));
  }

  protected setTo(to: To): void {
    this.to.set(to);
    this.agreed.set(new Set());
  }

  protected setPlace(place: NewPlace | null): void {
    this.place.set(place);
    this.agreed.set(new Set());
  }

  protected setOwn(pointId: string, own: OwnPlace): void {
    this.owns.update((owns) => new Map(owns).set(pointId, own));
    this.agreed.set(new Set());
  }

  protected setRule(rule: Rule): void {
    this.rule.set(rule);
    this.agreed.set(new Set());
  }

  protected drop(item: PickedItem): void {
    this.picks.toggle(item);
  }

  protected pickOf(item: RestorePlan['items'][number]): PickedItem | undefined {
    return this.picks.items().find((p) => p.pointId === item.pick.pointId && p.path === item.pick.path);
  }

  protected start(trial: boolean): void {
    const body = this.body();
    if (!body) return;
    this.busy.set(true);
    this.problem.set('');
    const reason = this.reason().trim() || 'trial without writing';
    this.api.call('startRestore', { body: { ...body, reason, trial } }).subscribe({
      next: ({ runId }) => {
        this.busy.set(false);
        if (this.isDownload()) {
          const link = document.createElement('a');
          link.href = addressOf('download', runId);
          link.download = '';
          link.click();
        }
        if (!trial) this.picks.clear();
        void this.router.navigate(['/runs', runId]);
      },
      error: (f: ApiFailure) => {
        this.busy.set(false);
        this.problem.set(f.message);
      },
    });
  }
}
