import { ChangeDetectionStrategy, Component, computed, inject, input, linkedSignal, signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { Router, RouterLink } from '@angular/router';
import type { BodyInput, RestorePlan, WorkloadRow } from '@lithodex/contract';
import { countOf, cutMiddle, formatDuration, formatPrice } from '@lithodex/core';
import { debounceTime, of, switchMap } from 'rxjs';
import { addressOf, Api, type ApiFailure } from '../data/api';
import { outcome, type Outcome } from '../data/outcome';
import { Picks, type PickedItem } from '../data/picks';
import { Session } from '../data/session';
import { KindPart } from '../kinds/kind-part';
import type { Destination, PlaceOption, Rule } from '../kinds/kind-parts';
import { partsOf } from '../kinds/parts-of';
import { Checks } from '../ui/checks';
import { formatPipes } from '../ui/format-pipes';
import { Slot, type SlotOption } from '../ui/slot';
import { EditedText, type Edited } from './edited-text';
import { RepeatForm, repeatable } from './repeat-form';
import { RescueTick } from './rescue-tick';
import { StateMark } from '../ui/state-mark';

/** Last part of a path; the whole of a workload has none. */
function nameOrAll(path: string): string {
  return path === '' ? 'Everything' : path.slice(path.lastIndexOf('/') + 1);
}

/** What tells one copy from another. */
function copyWords({ estimateMs, price, kind }: RestorePlan['copies'][number]): string {
  return [
    estimateMs === null ? 'how fast it is read is not known yet' : `about ${estimateMs < 1000 ? 'a second' : formatDuration(estimateMs)}`,
    price ? `${formatPrice(price.amount, price.currency)} at most` : '',
    kind === 'cartridges' ? 'cartridges may have to be fetched' : '',
  ]
    .filter(Boolean)
    .join(', ');
}

/** Checks that say that data goes to another place, or to an unknown one. */
const placeCodes: readonly string[] = ['LEAVES_PLACE', 'PLACE_UNKNOWN'];

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
  imports: [FormsModule, RouterLink, KindPart, Slot, Checks, EditedText, RepeatForm, RescueTick, StateMark, ...formatPipes],
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
  protected readonly to = signal('original');
  /** What is to become of what exists, where something else than leaving it was meant. */
  readonly exists = input<Rule>();
  protected readonly rule = linkedSignal<Rule>(() => this.exists() ?? 'leave');
  /** Id of the target to read from; '' for the best. */
  protected readonly readFrom = signal('');
  protected readonly reason = signal('');
  protected readonly name = signal('');
  protected readonly agreed = signal<ReadonlySet<string>>(new Set());
  protected readonly problem = signal('');
  protected readonly busy = signal(false);

  protected readonly places = computed((): readonly PlaceOption[] => {
    const all = this.parts().places(this.damaged() ? [] : this.picks.items());
    return this.session.keeps() ? all : all.slice(0, 1);
  });
  protected readonly place = computed(() => this.places().find((p) => p.value === this.to()) ?? this.places()[0]!);
  protected readonly starts: SlotOption<boolean>[] = [
    { value: false, label: 'leave them off' },
    { value: true, label: 'start them' },
  ];
  protected readonly rules = computed(() =>
    (this.place().fresh ? [] : allRules).filter((r) => this.parts().rules(this.picks.items()).includes(r.value)),
  );
  protected readonly copies = computed((): SlotOption<string>[] => [
    { value: '', label: 'the best copy', note: 'a disk before a bucket' },
    ...(this.plan()?.copies ?? []).map((c) => ({ value: c.targetId, label: c.target, note: copyWords(c) })),
  ]);
  protected readonly uses = computed(() => this.place().uses);
  protected readonly isDownload = computed(() => this.place().destination?.to === 'download');
  /** What the form of the place came to; null while it is not complete. */
  private readonly formed = signal<Destination | null>(null);
  private readonly destination = computed(() => (this.place().form ? this.formed() : (this.place().destination ?? null)));
  protected readonly complete = computed(() => this.destination() !== null);
  /** Where it could go again and again: whole workloads, by who may set that up. */
  protected readonly repeats = computed(() =>
    this.session.keeps() && !this.damaged() && this.picks.items().every((p) => p.path === '') ? repeatable(this.destination()) : undefined,
  );
  protected readonly repeating = signal(false);
  protected readonly workloads = computed(() => (this.plan()?.items ?? []).map((i) => i.workloadId));
  protected readonly startThem = signal(false);
  protected readonly rescue = signal(true);
  /** Somebody wants what is infected nonetheless. */
  protected readonly despite = signal(false);
  /** Somebody agrees to it that the data leaves its place, for this destination. */
  protected readonly leaves = signal(false);
  protected readonly mayLeave = computed(() => (this.plan()?.checks ?? []).some((c) => placeCodes.includes(c.code) && c.level === 'stop'));
  protected readonly infected = computed(() => (this.plan()?.checks ?? []).some((c) => c.code === 'INFECTED' && c.level === 'stop'));
  protected readonly edited = signal<Edited | undefined>(undefined);
  /** Whether a text can take the place of what is picked. */
  protected readonly edits = computed(
    () => this.parts().edits && this.picks.items().length === 1 && ['original', 'server'].includes(this.destination()?.to ?? ''),
  );

  private readonly body = computed((): BodyInput<'planRestore'> | null => {
    const damaged = this.damaged();
    if (!this.picks.items().length && !damaged) return null;
    const destination = this.destination();
    if (!destination) return null;
    return {
      name: this.name().trim() || this.suggested(),
      picks: damaged ? [] : this.picks.items().map(({ pointId, path }) => ({ pointId, path })),
      ...(damaged && { damagedIn: damaged }),
      destination,
      rule: this.rule(),
      start: this.startThem(),
      readFrom: this.readFrom() || null,
      rescue: this.rescue(),
      ...(this.despite() && { despiteInfected: true }),
      ...(this.leaves() && { leavesPlace: true }),
    };
  });

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
  /** Of what kind the picks are; as known last while no plan can be made. */
  private readonly kind = linkedSignal<RestorePlan | undefined, WorkloadRow['kind']>({
    source: () => this.planned()?.value,
    computation: (plan, before) => plan?.items[0]?.workloadKind ?? before?.value ?? 'files',
  });
  protected readonly parts = computed(() => partsOf(this.kind()));
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
  protected readonly partsOf = partsOf;

  protected sources(plan: RestorePlan): string {
    return plan.readFrom.map((r) => `${r.target} (${countOf(r.points, 'point')})`).join(', ');
  }

  protected agree(code: string): void {
    this.agreed.update((a) => new Set([...a, code]));
  }

  protected letLeave(): void {
    this.leaves.set(true);
    this.agreed.update((a) => new Set([...a, ...placeCodes]));
  }

  protected setTo(to: string): void {
    this.to.set(to);
    this.formed.set(null);
    this.askAgain();
  }

  /** What was agreed to was agreed to for another destination. */
  private askAgain(): void {
    this.agreed.set(new Set());
    this.leaves.set(false);
  }

  private readonly changedInput = {
    changed: (destination: Destination | null): void => {
      this.formed.set(destination);
      this.askAgain();
    },
  };

  protected readonly formInputs = computed(() => ({ ...this.changedInput, ...this.place().inputs }));
  protected readonly starting = computed(() => this.parts().starts(this.picks.items()));

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
    // what is picked decides what the sheet offers, and is let go when it has begun
    const uses = this.uses();
    const reason = this.reason().trim() || 'trial without writing';
    this.api.call('startRestore', { body: { ...body, reason, trial, ...(this.edits() && { edited: this.edited()?.text }) } }).subscribe({
      next: ({ runId }) => {
        this.busy.set(false);
        if (this.isDownload()) {
          const link = document.createElement('a');
          link.href = addressOf('download', runId);
          link.download = '';
          link.click();
        }
        if (!trial) this.picks.clear();
        if (uses) void this.router.navigate([uses.lands], { queryParams: { run: runId } });
        else void this.router.navigate(['/runs', runId]);
      },
      error: (f: ApiFailure) => {
        this.busy.set(false);
        this.problem.set(f.message);
      },
    });
  }
}
