import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { Router, RouterLink } from '@angular/router';
import type { AuditCheck, Request } from '@lithodex/contract';
import { formatCount, formatList } from '@lithodex/core';
import { combineLatest, debounceTime, merge, switchMap } from 'rxjs';
import { Acts } from '../data/acts';
import { Api } from '../data/api';
import { Live } from '../data/live';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { FilterBox } from '../ui/filter-box';
import { formatPipes } from '../ui/format-pipes';
import { policyDifferences, type PolicyNames } from '../policies/sentence';
import { StateMark } from '../ui/state-mark';
import { auditSentence } from './audit-words';
import { TrustHead } from './trust-head';

/** The audit trail, and what waits for a second person. */
@Component({
  selector: 'lx-trust-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, TrustHead, FilterBox, StateMark, ...formatPipes],
  templateUrl: './trust-page.html',
  styles:
    ':host { display: block; height: 100%; } .two { display: grid; grid-template-columns: minmax(0, 1fr) 380px; gap: 14px; flex: 1; min-height: 0; } .box { display: flex; flex-direction: column; min-height: 0; overflow: hidden; } .bar { display: flex; gap: 10px; align-items: center; padding: 9px 14px; border-bottom: 1px solid var(--line); } .ask { display: grid; gap: 3px; padding: 8px 14px; border-bottom: 1px solid var(--row); } .ask.past { color: var(--ink-3); } .ask .acts { display: flex; gap: 8px; align-items: center; } td a { text-decoration: underline; } .detail { width: 99%; max-width: 0; } .said { max-width: 520px; white-space: normal; min-width: 300px; }',
})
export class TrustPage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  protected readonly session = inject(Session);
  readonly q = input<string>();
  private readonly live = inject(Live);
  private readonly acts = new Acts();
  protected readonly trail = toSignal(
    combineLatest([toObservable(this.q), this.acts.changed]).pipe(
      debounceTime(120),
      switchMap(([q]) => this.api.call('audit', { query: { q, limit: 200 } }).pipe(outcome())),
    ),
  );
  protected readonly rows = computed(() => (this.trail()?.value?.rows ?? []).map((r) => ({ ...r, said: auditSentence(r, this.names()) })));
  protected readonly failure = computed(() => this.trail()?.failure);
  private readonly values = toSignal(this.api.call('estateValues').pipe(outcome()));
  private readonly policyList = toSignal(this.api.call('listPolicies').pipe(outcome()));
  private readonly targetList = toSignal(this.api.call('listTargets').pipe(outcome()));
  private readonly policyNames = computed((): PolicyNames => ({
    workloads: new Map((this.values()?.value?.workloads ?? []).map((w) => [w.id, w.name])),
    targets: new Map((this.targetList()?.value?.rows ?? []).map((t) => [t.id, t.name])),
    policies: new Map((this.policyList()?.value?.rows ?? []).map((p) => [p.id, p.body.name])),
  }));
  /** Names by what things are called in the trail, such as "policy 3". */
  private readonly names = computed(() => {
    const { workloads, targets, policies } = this.policyNames();
    const named = (kind: string, map: ReadonlyMap<number | string, string>) =>
      [...map].map(([id, name]) => [`${kind} ${id}`, name] as const);
    return new Map([...named('workload', workloads), ...named('target', targets), ...named('policy', policies)]);
  });
  protected readonly requestResult = toSignal(
    merge(
      this.acts.done,
      this.live.ticks((e) => e.kind === 'request'),
    ).pipe(switchMap(() => this.api.call('listRequests').pipe(outcome<{ rows: Request[] }>()))),
  );
  /** What waits for a second person, then what was decided lately. */
  protected readonly requests = computed(() => {
    const rows = (this.requestResult()?.value?.rows ?? []).map((r) => ({
      ...r,
      changes: r.difference ? policyDifferences(r.difference.before, r.difference.after, this.policyNames()) : [],
    }));
    return [...rows.filter((r) => r.state === 'waiting'), ...rows.filter((r) => r.state !== 'waiting').slice(0, 3)];
  });
  protected readonly check = signal<AuditCheck | null>(null);
  protected readonly problem = this.acts.problem;
  protected readonly checked = computed(() => {
    const c = this.check();
    if (!c) return '';
    if (c.intact) return `${formatCount(c.rows)} rows, the chain is whole`;
    const more = c.brokenCount > c.broken.length ? [`${formatCount(c.brokenCount - c.broken.length)} more`] : [];
    const where = formatList([...c.broken.map(String), ...more]);
    const broken = c.brokenCount ? `The chain is broken at ${c.brokenCount === 1 ? 'row' : 'rows'} ${where}` : '';
    const short = c.cutShort ? 'rows at its end are missing' : '';
    return [broken, short].filter(Boolean).join('; ');
  });

  protected patch(q: string | null): void {
    void this.router.navigate([], { queryParams: { q }, replaceUrl: true });
  }

  protected verify(): void {
    this.api.call('checkAudit').subscribe((c) => {
      this.check.set(c);
    });
  }

  protected agree(r: Request): void {
    this.acts.run(this.api.call('agreeRequest', { id: r.id }));
  }

  protected refuse(r: Request): void {
    this.acts.run(this.api.call('refuseRequest', { id: r.id }));
  }

  protected linkOf(r: Request): string[] | null {
    const [what, id = ''] = r.subject.split(' ');
    return what === 'policy' ? ['/policies', id] : null;
  }
}
