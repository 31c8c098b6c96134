import { ChangeDetectionStrategy, Component, computed, inject, input, numberAttribute, signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { Router, RouterLink } from '@angular/router';
import type { LogLine, RunDetail, TaskRow } from '@lithodex/contract';
import { combineLatest, debounceTime, switchMap } from 'rxjs';
import { addressOf, Api, type ApiFailure } from '../data/api';
import { Live } from '../data/live';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { FilterBox } from '../ui/filter-box';
import { formatPipes } from '../ui/format-pipes';
import { ProgressBar } from '../ui/progress-bar';
import { PutBeside } from './put-beside';
import { ScratchUp } from './scratch-up';
import { UndoRestore } from './undo-restore';
import { RunRates } from './run-rates';
import { StateMark, stateWord, unfinishedStates } from '../ui/state-mark';

const deviant: readonly string[] = ['failed', 'held', ...unfinishedStates];

/** One run: how it stands, where the time goes, each workload, the log. */
@Component({
  selector: 'lx-run-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, FilterBox, StateMark, ProgressBar, PutBeside, RunRates, ScratchUp, UndoRestore, ...formatPipes],
  templateUrl: './run-page.html',
  styleUrl: './run-page.scss',
})
export class RunPage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  private readonly live = inject(Live);
  protected readonly session = inject(Session);
  readonly id = input.required({ transform: numberAttribute });
  readonly level = input<string>();
  readonly q = input<string>();
  readonly task = input<string>();
  /** From the address: whether rates are shown over time. */
  readonly rates = input<string>();
  protected readonly problem = signal('');
  protected readonly word = stateWord;
  protected readonly warns = unfinishedStates;
  protected readonly more = signal<readonly LogLine[]>([]);
  private readonly changes = this.live.ticks((e) => e.runId === this.id(), 700);
  private readonly result = toSignal(
    combineLatest([toObservable(this.id), this.changes]).pipe(
      switchMap(([id]) => this.api.call('getRun', { id }).pipe(outcome<RunDetail>())),
    ),
  );
  protected readonly run = computed(() => this.result()?.value);
  protected readonly failure = computed(() => this.result()?.failure);
  private readonly logQuery = computed(() => ({
    level: this.level() as 'note' | 'warning' | 'fault' | undefined,
    q: this.q(),
    task: this.task(),
    limit: 200,
  }));
  private readonly logResult = toSignal(
    combineLatest([toObservable(this.id), toObservable(this.logQuery), this.changes]).pipe(
      debounceTime(100),
      switchMap(([id, query]) => {
        this.more.set([]);
        return this.api.call('runLog', { id, query }).pipe(outcome());
      }),
    ),
  );
  protected readonly log = computed(() => this.logResult()?.value);
  protected readonly lines = computed(() => [...(this.log()?.rows ?? []), ...this.more()]);
  protected readonly open = computed(() => ['waiting', 'running'].includes(this.run()?.state ?? ''));
  protected readonly retryable = computed(
    () =>
      this.run()?.kind === 'backup' &&
      !this.open() &&
      this.run()?.tasks.some((t) => t.state === 'failed' || unfinishedStates.includes(t.state)),
  );
  protected readonly logFile = computed(() => addressOf('runLogFile', this.id()));
  protected readonly downloadLink = computed(() => addressOf('download', this.id()));
  protected readonly tasks = computed(() =>
    [...(this.run()?.tasks ?? [])].sort((a, b) => Number(deviant.includes(b.state)) - Number(deviant.includes(a.state))),
  );
  protected readonly longest = computed(() => Math.max(1, this.took(this.run()) ?? 1, ...(this.run()?.earlier ?? []).map((e) => e.ms)));

  protected took(of: { startedAt: number | null; endedAt: number | null } | undefined): number | null {
    return of?.startedAt ? (of.endedAt ?? this.session.now()) - of.startedAt : null;
  }

  protected phaseShare(t: TaskRow, ms: number): number {
    return (
      (ms /
        Math.max(
          1,
          t.phases.reduce((a, p) => a + p.ms, 0),
        )) *
      100
    );
  }

  protected patch(query: Record<string, string | null>): void {
    void this.router.navigate([], { queryParams: query, queryParamsHandling: 'merge', replaceUrl: true });
  }

  protected loadMore(): void {
    const cursor = this.more().length ? String(this.more().at(-1)!.seq) : this.log()?.next;
    if (cursor)
      this.api.call('runLog', { id: this.id(), query: { ...this.logQuery(), cursor } }).subscribe((page) => {
        this.more.update((m) => [...m, ...page.rows]);
      });
  }

  private readonly failed = (f: ApiFailure) => {
    this.problem.set(f.message);
  };

  protected stop(): void {
    this.api.call('stopRun', { id: this.id() }).subscribe({ error: this.failed });
  }

  protected retry(): void {
    this.api
      .call('retryRun', { id: this.id() })
      .subscribe({ next: ({ runId }) => void this.router.navigate(['/runs', runId]), error: this.failed });
  }
}
