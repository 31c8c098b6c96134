import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { Router, RouterLink } from '@angular/router';
import type { PriceTable, TargetDetail } from '@lithodex/contract';
import { earlyRemovalPrice, formatBytes, formatPrice, monthlyPrice, readPrice } from '@lithodex/core';
import { switchMap } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { Live } from '../data/live';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { FormDialog } from '../ui/form-dialog';
import { formatPipes } from '../ui/format-pipes';
import { AtOnce } from '../ui/at-once';
import { Slot, type SlotOption } from '../ui/slot';
import { StateMark } from '../ui/state-mark';
import { Plot } from '../ui/plot';
import { CartridgeList } from './cartridge-list';
import { KeptSettings } from './kept-settings';
import { OtherOwner } from './other-owner';
import { PaceForm, paceWords } from './pace-form';
import { kindOf } from './place-words';
import { roomChart } from './room-chart';

type UseBy = 'workloads' | 'policies' | 'ages';
const tabs: readonly [UseBy, string][] = [
  ['workloads', 'By workload'],
  ['policies', 'By policy'],
  ['ages', 'By age'],
];
const usualPrices: PriceTable = { currency: 'EUR', perGbMonth: 0.01, perGbRead: 0, perThousandRequests: 0, leastDays: 0 };

/** One target: when it is full and how sure that is, what fills it, what it costs. */
@Component({
  selector: 'lx-target-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    FormsModule,
    RouterLink,
    AtOnce,
    CartridgeList,
    FormDialog,
    KeptSettings,
    OtherOwner,
    PaceForm,
    Plot,
    Slot,
    StateMark,
    ...formatPipes,
  ],
  templateUrl: './target-page.html',
  styles: `
    :host {
      display: block;
      height: 100%;
    }
    .two {
      display: grid;
      grid-template-columns: minmax(0, 1fr) 380px;
      gap: 14px;
      flex: 1;
      min-height: 0;
    }
    .col {
      display: flex;
      flex-direction: column;
      gap: 12px;
      min-height: 0;
    }
    .box {
      padding: 12px 16px;
      display: flex;
      flex-direction: column;
      gap: 8px;
    }
    .use {
      display: grid;
      grid-template-columns: minmax(0, 1fr) 120px 80px;
      gap: 4px 12px;
      align-items: center;
      font-size: 13px;
    }
    .bar {
      height: 9px;
      border-radius: 2px;
      background: var(--hush);
    }
    .bar i {
      display: block;
      height: 100%;
      border-radius: 2px;
      background: var(--incremental);
    }
    .on {
      background: var(--lapis-soft);
      border-color: var(--lapis-line);
      color: var(--lapis);
    }
    .right {
      text-align: right;
    }
    .use .small {
      margin-left: 7px;
    }
    dt {
      font-weight: 400;
      color: var(--ink-2);
    }
    dl {
      display: grid;
      grid-template-columns: 1fr auto;
      gap: 4px 12px;
      margin: 0;
      font-size: 13px;
    }
    dd {
      margin: 0;
      text-align: right;
      font-family: var(--mono);
      font-size: 12.5px;
    }
    form {
      display: flex;
      flex-direction: column;
      gap: 10px;
    }
    label {
      display: flex;
      flex-direction: column;
      gap: 3px;
      font-size: 13px;
      font-weight: 600;
    }
  `,
})
export class TargetPage {
  private readonly api = inject(Api);
  private readonly live = inject(Live);
  private readonly router = inject(Router);
  protected readonly session = inject(Session);
  readonly id = input.required<string>();
  private readonly loaded = toSignal(
    toObservable(this.id).pipe(
      switchMap((id) =>
        this.live.reloading(
          () => this.api.call('getTarget', { id }).pipe(outcome<TargetDetail>()),
          (e) => e.kind === 'point' || e.kind === 'estate' || e.kind === 'room' || e.kind === 'run',
          5000,
        ),
      ),
    ),
  );
  protected readonly target = computed(() => this.loaded()?.value);
  protected readonly failure = computed(() => this.loaded()?.failure);
  protected readonly kindOf = kindOf;
  protected readonly tabs = tabs;
  protected readonly by = signal<UseBy>('workloads');
  protected readonly chart = computed(() => {
    const target = this.target();
    return target && roomChart(target, this.session.now());
  });

  protected readonly rows = computed(() => {
    const rows = this.target()?.use[this.by()] ?? [];
    const most = Math.max(1, ...rows.map((r) => r.stored));
    return rows.map((r) => ({ ...r, share: (100 * r.stored) / most }));
  });

  protected linkOf(row: { id: number | null }): (string | number)[] | null {
    if (row.id === null || this.by() === 'ages') return null;
    return [this.by() === 'workloads' ? '/estate' : '/policies', row.id];
  }

  /** What the price table makes of what is there: amounts in words. */
  protected readonly costs = computed((): { what: string; amount: string }[] => {
    const t = this.target();
    if (!t?.prices) return [];
    const p = t.prices;
    const used = t.used ?? t.storedBytes;
    const newest = t.use.workloads.reduce((sum, w) => sum + w.bytes / Math.max(1, w.points), 0);
    const reduction = t.allBytes > 0 ? Math.min(1, used / t.allBytes) : 1;
    const early = t.young.reduce((sum, y) => sum + earlyRemovalPrice(y.stored, y.days, p), 0);
    const money = (amount: number) => formatPrice(amount, p.currency);
    return [
      { what: `Keeping ${formatBytes(used)} for a month`, amount: money(monthlyPrice(used, p)) },
      { what: 'Bringing back the newest point of every workload, at most', amount: money(readPrice(newest, newest / 1e6, p)) },
      { what: 'Reading everything once to verify it', amount: money(readPrice(used, used / (32 << 20), p)) },
      ...(p.leastDays ? [{ what: `Removing now what is younger than ${p.leastDays} days`, amount: money(early) }] : []),
      { what: 'Full size against what is stored', amount: `${(1 / reduction).toFixed(1)} ×` },
    ];
  });

  // ---- acts
  protected readonly rekeying = signal(false);
  private readonly failed = (f: ApiFailure) => {
    this.problem.set(f.message);
  };

  protected adopt(): void {
    this.problem.set('');
    this.api
      .call('adoptTarget', { id: this.id() })
      .subscribe({ next: ({ runId }) => void this.router.navigate(['/runs', runId]), error: this.failed });
  }

  protected newKey(): void {
    this.problem.set('');
    this.api.call('newKey', { id: this.id() }).subscribe({
      next: () => {
        this.rekeying.set(false);
      },
      error: this.failed,
    });
  }

  protected readonly pacing = signal(false);
  protected readonly settings = signal(false);
  protected readonly paceWords = paceWords;

  protected setLimits(more: Partial<Pick<TargetDetail, 'writers' | 'paces'>>): void {
    const target = this.target();
    if (!target) return;
    this.problem.set('');
    const { writers, paces } = { ...target, ...more };
    this.api.call('setLimits', { id: this.id(), body: { writers, paces } }).subscribe({
      next: () => {
        this.pacing.set(false);
      },
      error: this.failed,
    });
  }

  /** Whoever reads that folder reads them: they are not encrypted. */
  protected readonly newest: SlotOption<boolean>[] = [
    { value: false, label: 'not kept' },
    { value: true, label: 'kept beside the store', note: 'text of database servers in its folder “newest”, not encrypted' },
  ];

  protected keepNewest(files: boolean): void {
    this.problem.set('');
    this.api.call('keepNewest', { id: this.id(), body: { files } }).subscribe({ error: this.failed });
  }

  protected readonly retiring = signal(false);
  private readonly all = toSignal(this.api.call('listTargets').pipe(outcome()));
  protected readonly others = computed(() =>
    (this.all()?.value?.rows ?? []).filter((t) => t.id !== this.id() && !t.retiredTo && !t.follows),
  );
  protected readonly heir = computed(
    () => this.all()?.value?.rows.find((t) => t.id === this.target()?.retiredTo)?.name ?? 'another target',
  );
  protected readonly to = signal('');

  protected retire(): void {
    this.problem.set('');
    this.api.call('retireTarget', { id: this.id(), body: { to: this.to() } }).subscribe({
      next: ({ runId }) => {
        this.retiring.set(false);
        if (runId !== null) void this.router.navigate(['/runs', runId]);
      },
      error: this.failed,
    });
  }

  protected forget(): void {
    this.ask('forgetTarget');
  }

  protected settle(): void {
    this.ask('settleTarget');
  }

  /** A second person decides under Trust. */
  private ask(what: 'forgetTarget' | 'settleTarget'): void {
    this.problem.set('');
    this.api.call(what, { id: this.id() }).subscribe({ next: () => void this.router.navigate(['/trust/acts']), error: this.failed });
  }

  // ---- prices
  protected readonly pricing = signal(false);
  protected readonly problem = signal('');
  protected prices: PriceTable = usualPrices;

  protected openPrices(): void {
    this.problem.set('');
    this.prices = { ...(this.target()?.prices ?? usualPrices) };
    this.pricing.set(true);
  }

  protected savePrices(prices: PriceTable | null): void {
    this.api.call('setPrices', { id: this.id(), body: { prices } }).subscribe({
      next: () => {
        this.pricing.set(false);
      },
      error: this.failed,
    });
  }
}
