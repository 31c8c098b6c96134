import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { Router, RouterLink } from '@angular/router';
import type { FoundContent, Scans } from '@lithodex/contract';
import { countOf, verdicts } from '@lithodex/core';
import { combineLatest, debounceTime, switchMap } from 'rxjs';
import { Acts } from '../data/acts';
import { Api } from '../data/api';
import { Live } from '../data/live';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { FilterBox } from '../ui/filter-box';
import { formatPipes } from '../ui/format-pipes';
import { RulesDialog } from './rules-dialog';
import { ScanSettingsDialog } from './scan-settings-dialog';
import { TrustHead } from './trust-head';
import { verdictLook, verdictWords } from './verdict-words';

const windows = [
  { hours: 24, words: '24 hours' },
  { hours: 168, words: '7 days' },
  { hours: 1344, words: '8 weeks' },
  { hours: 876_000, words: 'all history' },
] as const;
const whenWords = {
  never: 'Points are scanned when somebody asks for it',
  unusual: 'Points are scanned when their change is unusual',
  always: 'Every point is scanned once it stands',
} as const;

/** What is known against the points of each workload, and what was found, wherever and whenever. */
@Component({
  selector: 'lx-scans-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, TrustHead, FilterBox, RulesDialog, ScanSettingsDialog, ...formatPipes],
  templateUrl: './scans-page.html',
  styleUrl: './scans-page.scss',
})
export class ScansPage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  private readonly live = inject(Live);
  protected readonly session = inject(Session);
  readonly hours = input<string>();
  readonly q = input<string>();
  protected readonly acts = new Acts();
  protected readonly windows = windows;
  protected readonly span = computed(() => windows.find((w) => String(w.hours) === this.hours())?.hours ?? (this.q() ? 876_000 : 168));
  protected readonly open = signal<'rules' | 'settings' | null>(null);
  protected readonly words = verdictWords;
  protected readonly look = verdictLook;

  private readonly result = toSignal(
    combineLatest([this.acts.changed, this.live.ticks((e) => e.kind === 'point' || e.kind === 'estate')]).pipe(
      switchMap(() => this.api.call('listScans').pipe(outcome<Scans>())),
    ),
  );
  private readonly finds = toSignal(
    combineLatest([toObservable(this.span), toObservable(this.q).pipe(debounceTime(200)), this.live.ticks((e) => e.kind === 'point')]).pipe(
      switchMap(([hours, q]) =>
        this.api.call('listFinds', { query: { hours, ...(q && { q }) } }).pipe(outcome<{ rows: FoundContent[]; total: number | null }>()),
      ),
    ),
  );
  protected readonly failure = computed(() => this.result()?.failure ?? this.finds()?.failure);
  protected readonly scans = computed(() => this.result()?.value);
  protected readonly found = computed(() => this.finds()?.value);
  protected readonly when = computed(() => {
    const s = this.scans()?.settings;
    if (!s) return '';
    const also = [s.scanner && `by ${s.scanner} too`, s.sensitive && 'sensitive data is looked for as well'].filter(Boolean).join(', ');
    return `${whenWords[s.when]}${also ? `, ${also}` : ''}.`;
  });
  protected readonly summary = computed(() => {
    const newest = this.scans()?.newest;
    if (!newest) return '';
    const said = [...verdicts].reverse().flatMap((v) => (newest[v] ? [`${newest[v]} ${verdictWords[v]}`] : []));
    return said.length ? `newest points: ${said.join(', ')}` : '';
  });
  /** The newest points that nobody knows anything about. */
  protected readonly waiting = computed(() =>
    (this.scans()?.rows ?? []).filter((r) => r.verdict === 'unscanned' || r.verdict === 'nothing'),
  );
  protected readonly started = signal<number | null>(null);

  protected scanWords(): string {
    return `Scan the newest point of ${countOf(this.waiting().length, 'workload')}`;
  }

  protected scan(workloads: readonly number[], all = false): void {
    const body = { workloads: [...workloads], from: all ? 0 : null, to: null };
    this.acts.run(this.api.call('startScan', { body }), ({ runId }) => {
      this.started.set(runId);
    });
  }

  protected scanWaiting(): void {
    this.scan(this.waiting().map((r) => r.id));
  }

  protected go(to: { hours?: number; q?: string | null }): void {
    void this.router.navigate([], { queryParams: to, queryParamsHandling: 'merge', replaceUrl: true });
  }
}
