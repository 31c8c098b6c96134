import { ChangeDetectionStrategy, Component, computed, effect, inject, input, signal, untracked } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { Router, RouterLink } from '@angular/router';
import { NgbDropdownModule } from '@ng-bootstrap/ng-bootstrap';
import {
  mostRules,
  type Consequences,
  type EstateValues,
  type Policy,
  type PolicyBody,
  type PolicyDetail,
  type PolicyRule as Rule,
  type PolicyStart,
} from '@lithodex/contract';
import { countOf, asksFor, parseRule, ruleFields, type RuleField as Field } from '@lithodex/core';
import { debounceTime, map, of, switchMap } from 'rxjs';
import { addressOf, Api, type ApiFailure } from '../data/api';
import { outcome, type Outcome } from '../data/outcome';
import { Session } from '../data/session';
import { FormDialog } from '../ui/form-dialog';
import { formatPipes } from '../ui/format-pipes';
import { Slot, type SlotOption } from '../ui/slot';
import { ConsequencesPanel } from './consequences-panel';
import { ScriptRule } from './script-rule';
import { TimeTerms } from './time-terms';
import { PolicyRule, takesPoints } from './policy-rule';
import { policyOutlooks } from './policy-outlooks';
import { PolicyVersions } from './policy-versions';
import { RuleField } from './rule-field';
import { namesInsideWords, ruleSentence, type PolicyNames } from './sentence';

const options = <T>(values: readonly T[], label: (value: T) => string): SlotOption<T>[] =>
  values.map((value) => ({ value, label: label(value) }));

/** A draft that was read from a file: it comes along with the address, which the page may outlive. */
const readFromFile = () => (history.state as { draft?: PolicyBody } | null)?.draft;

/** A policy as sentences, with its consequences worked out while it is written. */
@Component({
  selector: 'lx-policy-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    FormsModule,
    RouterLink,
    Slot,
    NgbDropdownModule,
    PolicyRule,
    PolicyVersions,
    RuleField,
    TimeTerms,
    ScriptRule,
    ConsequencesPanel,
    FormDialog,
    ...formatPipes,
  ],
  templateUrl: './policy-page.html',
  styleUrl: './policy-page.scss',
})
export class PolicyPage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  protected readonly session = inject(Session);
  readonly id = input.required<string>();
  readonly workload = input<string>();
  /** Ids of workloads to be added to the draft. */
  readonly plus = input<string>();
  /** Id of the policy that a new one begins as. */
  readonly like = input<string>();
  protected readonly policyId = computed(() => (this.id() === 'new' ? null : Number(this.id())));
  private readonly loaded = toSignal(
    toObservable(this.policyId).pipe(
      switchMap((id) => (id === null ? of<Outcome<PolicyDetail>>({}) : this.api.call('getPolicy', { id }).pipe(outcome<PolicyDetail>()))),
    ),
  );
  protected readonly failure = computed(() => this.loaded()?.failure);
  protected readonly inForce = computed(() => this.loaded()?.value);
  private readonly targets = toSignal(this.api.call('listTargets').pipe(outcome()));
  protected readonly estate = toSignal(this.api.call('estateValues').pipe(outcome<EstateValues>()));
  private readonly policies = toSignal(this.api.call('listPolicies').pipe(outcome()));
  /** Policies that this one could follow. */
  protected readonly otherPolicies = computed(() =>
    (this.policies()?.value?.rows ?? []).filter((p) => p.id !== this.policyId()).map((p) => ({ id: p.id, name: p.body.name })),
  );
  protected readonly allTargets = computed(() => this.targets()?.value?.rows ?? []);
  protected readonly draft = signal<PolicyBody | null>(null);
  protected readonly problem = signal('');
  protected readonly busy = signal(false);
  protected readonly ending = signal(false);
  /** Answered by a person: putting it in force deletes points. */
  protected readonly agreed = signal(false);

  /** What a new policy begins as, where it is no copy of another one. */
  private readonly starting = signal<PolicyStart | null>(null);
  protected readonly startsNew = computed(() => this.starting()?.policyId === this.policyId() && this.policyId() !== null);
  /** The policy that a new one is a copy of. */
  private readonly start = toSignal(
    toObservable(this.like).pipe(
      switchMap((id) => (id ? this.api.call('getPolicy', { id: Number(id) }).pipe(outcome<Policy>()) : of<Outcome<Policy>>({}))),
    ),
  );

  protected readonly yaml = computed(() => addressOf('policyFile', this.policyId() ?? 0));

  /** Which policy the draft is of: the page stays when one goes on to another. */
  private draftOf: number | null | undefined;
  /** The policy in force that the draft began with: what else arrives later changes nothing of a draft. */
  private draftFrom: PolicyDetail | undefined;

  constructor() {
    this.api
      .call('policyStart')
      .pipe(outcome<PolicyStart>())
      .subscribe(({ value }) => {
        this.starting.set(value ?? { policyId: null, terms: null });
      });
    effect(() => {
      const id = this.policyId();
      const loaded = this.inForce();
      const policy = loaded?.id === id ? loaded : undefined;
      const targets = this.targets();
      const start = this.start();
      const starting = this.starting();
      untracked(() => {
        if (this.draftOf !== id) {
          this.draft.set(null);
          this.draftFrom = undefined;
        }
        this.draftOf = id;
        if (!targets) return;
        if (policy) {
          if (this.draftFrom !== policy) this.draft.set(this.withAdded(policy.body));
          this.draftFrom = policy;
        } else if (id !== null || this.draft() || !targets.value || !start || !starting) return;
        else if (readFromFile()) this.draft.set(readFromFile()!);
        else if (start.value) this.draft.set({ ...start.value.body, name: `${start.value.body.name}, copy` });
        else if (!this.like() || start.failure)
          this.draft.set(this.withAdded(this.fresh(targets.value.rows.find(takesPoints)?.id ?? '00000000-0000-0000-0000-000000000000')));
      });
    });
  }

  private withAdded(body: PolicyBody): PolicyBody {
    const added = (this.plus() ?? '').split(',').map(Number).filter(Boolean);
    return added.length ? { ...body, workloads: [...new Set([...body.workloads, ...added])] } : body;
  }

  private fresh(targetId: string): PolicyBody {
    const chosen = Number(this.workload());
    const nothing = { name: '', workloads: chosen ? [chosen] : [], tags: [], rule: '', except: '' };
    const terms = this.starting()?.terms;
    if (terms) return { ...terms, ...nothing };
    return {
      ...nothing,
      rules: [
        {
          no: 1,
          kind: 'incremental',
          synthetic: null,
          schedule: { every: 'day', at: '22:00' },
          keep: { by: 'days', days: 14 },
          targetId,
          lockDays: null,
          objectiveMinutes: null,
          parts: [],
          copies: [],
        },
      ],
      zone: this.session.zone(),
      window: null,
      closed: [],
      retries: { times: 2, pauseMinutes: 30 },
      catchUp: true,
      priority: 'usual',
      include: [],
      exclude: [],
      scripts: { before: null, after: null, minutes: 15 },
      namesInside: false,
      objectiveHours: 26,
      changeLimit: 40,
    };
  }

  private readonly weighed = toSignal(
    toObservable(this.draft).pipe(
      debounceTime(150),
      switchMap((body) =>
        body
          ? this.api.call('consequences', { body: { id: this.policyId(), body: { ...body, name: body.name || 'draft' } } }).pipe(
              outcome<Consequences>(),
              map((o) => ({ ...o, of: body })),
            )
          : of<Outcome<Consequences> & { of?: PolicyBody }>({}),
      ),
    ),
  );
  protected readonly outlooks = policyOutlooks({
    id: this.policyId,
    draft: this.draft,
    inForce: computed(() => this.inForce()?.body ?? null),
  });
  protected readonly consequences = computed(() => this.weighed()?.value);
  protected readonly weighFailure = computed(() => this.weighed()?.failure);
  protected readonly differs = computed(() => JSON.stringify(this.draft()) !== JSON.stringify(this.inForce()?.body));
  protected readonly needsAnswer = computed(() => (this.consequences()?.deletes.points ?? 0) > 0 && !this.agreed());
  protected readonly ready = computed(
    () =>
      Boolean(this.draft()?.name.trim()) &&
      this.weighed()?.of === this.draft() &&
      this.consequences() !== undefined &&
      this.differs() &&
      !this.needsAnswer() &&
      !this.busy() &&
      !this.consequences()?.warnings.some((w) => w.code === 'NO_TARGET'),
  );

  // ---- slots
  protected readonly objectives = options([4, 8, 12, 24, 26, 48, 120, 192], (h) => `${h} h`);
  protected readonly insideNames = options([false, true], namesInsideWords);
  protected readonly limits = options([10, 20, 30, 40, 50, 60, 80, 100], (p) => `${p} %`);
  protected readonly workloadOptions = computed(() =>
    (this.estate()?.value?.workloads ?? [])
      .filter((w) => !this.draft()?.workloads.includes(w.id))
      .map((w) => ({ value: w.id, label: w.name, note: w.coverage === 'none' ? 'unprotected' : '' })),
  );
  /** People or sites are among what it protects. */
  protected readonly hasPeople = computed(() => {
    const people = new Set((this.estate()?.value?.workloads ?? []).filter((w) => w.kind === 'tenant').map((w) => w.id));
    return this.consequences()?.matches.some((m) => people.has(m.id)) ?? false;
  });
  protected readonly tagOptions = computed(() =>
    (this.estate()?.value?.tags ?? [])
      .filter((t) => !this.draft()?.tags.includes(t.name))
      .map((t) => ({ value: t.name, label: t.name, note: `${t.count}` })),
  );

  /** What rules can name, for completion. */
  protected readonly known = computed(() => {
    const fields = this.estate()?.value?.fields ?? {};
    return Object.fromEntries(ruleFields.map((f) => [f, fields[f] ?? []])) as Record<Field, string[]>;
  });

  /** Machines move between hosts and storages by themselves, and out of such a rule. */
  protected readonly byHost = computed(() => {
    try {
      return asksFor(parseRule(this.draft()?.rule ?? ''), ['host', 'storage']);
    } catch {
      return false;
    }
  });

  protected readonly matching = computed(() => {
    const n = this.consequences()?.matches.length;
    return n === undefined ? '' : `${countOf(n, 'workload')} ${n === 1 ? 'matches' : 'match'} now`;
  });

  /** Names of what only this policy protects. */
  protected readonly leftAlone = computed(() => {
    const matches = this.consequences()?.matches ?? [];
    return matches
      .filter((m) => !m.alsoBy.length)
      .map((m) => m.name)
      .join(', ');
  });

  protected readonly names = computed((): PolicyNames => ({
    policies: new Map(this.otherPolicies().map((p) => [p.id, p.name])),
    workloads: new Map((this.estate()?.value?.workloads ?? []).map((w) => [w.id, w.name])),
    targets: new Map(this.allTargets().map((t) => [t.id, t.name])),
  }));

  protected nameOf(id: number): string {
    if (!this.estate()) return '…';
    return this.estate()?.value?.workloads.find((w) => w.id === id)?.name ?? `workload ${id}`;
  }

  protected set(change: Partial<PolicyBody>): void {
    this.agreed.set(false);
    this.draft.update((d) => (d ? { ...d, ...change } : d));
  }

  protected readonly mostRules = mostRules;
  protected readonly settled = computed(() => {
    const points = this.consequences()?.settled.points;
    return points ? `${countOf(points, 'point')} when settled` : '';
  });

  protected sentenceOf(rule: Rule): string {
    return ruleSentence(rule, this.names().policies);
  }

  protected setRule(rule: Rule): void {
    this.setRules((rules) => rules.map((r) => (r.no === rule.no ? rule : r)));
  }

  /** Begins a further rule as what most often goes with the first: a full now and then that is kept for longer. */
  protected addRule(): void {
    this.setRules((rules) => {
      const { schedule, targetId } = rules[0]!;
      const at = 'at' in schedule ? schedule.at : '22:00';
      const keep = { by: 'days' as const, days: 60 };
      const every = { every: 'week' as const, days: [7], at };
      const no = Math.max(...rules.map((r) => r.no), this.inForce()?.newestRule ?? 0) + 1;
      return [
        ...rules,
        {
          no,
          kind: 'full',
          synthetic: null,
          schedule: every,
          keep,
          targetId,
          lockDays: null,
          copies: [],
          objectiveMinutes: null,
          parts: [],
        },
      ];
    });
  }

  protected dropRule(rule: Rule): void {
    this.setRules((rules) => rules.filter((r) => r !== rule));
  }

  private setRules(change: (rules: readonly Rule[]) => Rule[]): void {
    const d = this.draft();
    if (d) this.set({ rules: change(d.rules) });
  }

  protected patterns(text: string): string[] {
    return text
      .split('\n')
      .map((l) => l.trim())
      .filter(Boolean);
  }

  protected add<K extends 'workloads' | 'tags'>(key: K, value: PolicyBody[K][number]): void {
    const d = this.draft();
    if (d) this.set({ [key]: [...d[key], value] });
  }

  protected drop<K extends 'workloads' | 'tags'>(key: K, value: PolicyBody[K][number]): void {
    const d = this.draft();
    if (d) this.set({ [key]: d[key].filter((v) => v !== value) });
  }

  // ---- acts
  private readonly failed = (f: ApiFailure) => {
    this.busy.set(false);
    this.problem.set(f.message);
  };

  protected save(): void {
    const body = this.draft();
    if (!body) return;
    this.busy.set(true);
    this.problem.set('');
    const id = this.policyId();
    if (id === null)
      this.api.call('addPolicy', { body }).subscribe({
        next: (r) => {
          this.busy.set(false);
          void this.router.navigate(['/policies', r.id], { replaceUrl: true });
        },
        error: this.failed,
      });
    else
      this.api.call('changePolicy', { id, body }).subscribe({
        next: ({ request }) => {
          this.busy.set(false);
          void this.router.navigate(request === null ? ['/policies'] : ['/trust/acts']);
        },
        error: this.failed,
      });
  }

  protected run(trial: boolean, rule?: number): void {
    const id = this.policyId();
    if (id !== null)
      this.api
        .call('runPolicy', { id, body: { trial, rule } })
        .subscribe({ next: ({ runId }) => void this.router.navigate(['/runs', runId]), error: this.failed });
  }

  /** Lets new policies start from this one, or from the sentences the program knows. */
  protected startFrom(policyId: number | null): void {
    this.api.call('setPolicyStart', { body: { policyId } }).subscribe({ next: (start) => this.starting.set(start), error: this.failed });
  }

  protected end(): void {
    this.ending.set(false);
    const id = this.policyId();
    if (id !== null)
      this.api.call('removePolicy', { id }).subscribe({ next: () => void this.router.navigate(['/policies']), error: this.failed });
  }
}
