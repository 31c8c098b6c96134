import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { Router, RouterLink } from '@angular/router';
import type { DrilledWorkload, DrillRow, Drills } from '@lithodex/contract';
import { countOf, formatDuration } from '@lithodex/core';
import { combineLatest, map, switchMap } from 'rxjs';
import { Acts } from '../data/acts';
import { Api } from '../data/api';
import { Live } from '../data/live';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { FilterBox } from '../ui/filter-box';
import { formatPipes } from '../ui/format-pipes';
import { StateMark } from '../ui/state-mark';
import { DrillPlanDialog } from './drill-plan-dialog';
import { DrillSettingsDialog } from './drill-settings-dialog';
import { planWords } from './drill-words';
import { TrustHead } from './trust-head';

/** How far restores are proven: of each workload its last drill, and the evidence. */
@Component({
  selector: 'lx-drills-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, TrustHead, FilterBox, StateMark, DrillPlanDialog, DrillSettingsDialog, ...formatPipes],
  templateUrl: './drills-page.html',
  styleUrl: './drills-page.scss',
})
export class DrillsPage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  private readonly live = inject(Live);
  protected readonly session = inject(Session);
  readonly workload = input<string>();
  readonly q = input<string>();
  protected readonly acts = new Acts();
  protected readonly open = signal<DrilledWorkload | 'settings' | null>(null);
  protected readonly started = signal<number | null>(null);
  protected readonly chosen = computed(() => Number(this.workload()) || undefined);

  private readonly result = toSignal(
    combineLatest([this.acts.changed, this.live.ticks((e) => e.kind === 'run' || e.kind === 'point')]).pipe(
      switchMap(() => this.api.call('listDrills').pipe(outcome<Drills>())),
    ),
  );
  private readonly told = toSignal(
    combineLatest([toObservable(this.chosen), this.live.ticks((e) => e.kind === 'run')]).pipe(
      switchMap(([workload]) =>
        this.api.call('listDrilled', { query: { ...(workload && { workload }) } }).pipe(
          map(({ rows }) => rows),
          outcome<DrillRow[]>(),
        ),
      ),
    ),
  );
  protected readonly failure = computed(() => this.result()?.failure ?? this.told()?.failure);
  protected readonly drills = computed(() => this.result()?.value);
  protected readonly evidence = computed(() => this.told()?.value);
  protected readonly rows = computed(() => {
    const wanted = this.q()?.trim().toLowerCase() ?? '';
    const rank = (r: DrilledWorkload) => (r.open ? 1 : r.last?.passed === false ? 0 : 2);
    return (this.drills()?.rows ?? [])
      .filter((r) => r.name.toLowerCase().includes(wanted))
      .sort((a, b) => rank(a) - rank(b) || (a.turn ?? Infinity) - (b.turn ?? Infinity) || a.name.localeCompare(b.name));
  });
  protected readonly chosenName = computed(() => this.drills()?.rows.find((r) => r.id === this.chosen())?.name);
  protected readonly summary = computed(() => {
    const told = this.drills();
    if (!told) return '';
    const { of, proven, failed } = told.coverage;
    return `${proven} of ${of} proven in ${countOf(told.settings.within, 'day')}${failed ? `, ${failed} did not pass` : ''}`;
  });
  /** Those that no drill ever came to. */
  protected readonly never = computed(() => (this.drills()?.rows ?? []).filter((r) => !r.last && !r.open && r.cannot === ''));

  protected plan({ plan }: DrilledWorkload): string {
    return planWords(plan, formatDuration((plan.objective ?? 0) * 1000));
  }

  protected late({ last, plan }: DrilledWorkload): boolean {
    return plan.objective !== null && last?.usableMs != null && last.usableMs > plan.objective * 1000;
  }

  protected drill(workloads: readonly number[]): void {
    this.acts.run(this.api.call('startDrill', { body: { workloads: [...workloads] } }), ({ runId }) => {
      this.started.set(runId);
    });
  }

  protected drillNever(): void {
    this.drill(this.never().map((r) => r.id));
  }

  protected go(to: { workload?: number | null; q?: string | null }): void {
    void this.router.navigate([], { queryParams: to, queryParamsHandling: 'merge', replaceUrl: true });
  }
}
