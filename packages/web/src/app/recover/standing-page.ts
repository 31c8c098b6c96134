import { ChangeDetectionStrategy, Component, computed, inject, input, numberAttribute, signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { Router, RouterLink } from '@angular/router';
import type { Answered, StandingRow } from '@lithodex/contract';
import { formatList } from '@lithodex/core';
import { BehaviorSubject, combineLatest, of, switchMap } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { Live } from '../data/live';
import { outcome, type Outcome } from '../data/outcome';
import { Session } from '../data/session';
import { Certain } from '../ui/certain';
import { formatPipes } from '../ui/format-pipes';
import { StateMark, stateWord } from '../ui/state-mark';

const dayNames = ['Monday', 'Tuesday', 'Wednesday', 'Thursday', 'Friday', 'Saturday', 'Sunday'];

/** Restores that are repeated: when, where to, and what each time has shown. */
@Component({
  selector: 'lx-standing-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, Certain, StateMark, ...formatPipes],
  templateUrl: './standing-page.html',
  styles:
    '.wrap { white-space: normal; min-width: 160px; } .acts { display: inline-flex; gap: 8px; } .proof { margin-top: 12px; } .proof h2 { padding: 12px 10px 0; }',
})
export class StandingPage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  protected readonly session = inject(Session);
  /** The one whose evidence is shown. */
  readonly shown = input(undefined, {
    transform: (value: string | undefined) => (value === undefined ? undefined : numberAttribute(value)),
  });
  protected readonly problem = signal('');
  protected readonly ending = signal<StandingRow | undefined>(undefined);
  private readonly again = new BehaviorSubject<void>(undefined);
  private readonly ticks = combineLatest([inject(Live).ticks((e) => e.kind === 'run', 1000), this.again]);
  private readonly result = toSignal(
    this.ticks.pipe(switchMap(() => this.api.call('listStanding').pipe(outcome<Answered<'listStanding'>>()))),
  );
  protected readonly rows = computed(() => this.result()?.value?.rows);
  protected readonly failure = computed(() => this.result()?.failure);
  private readonly proof = toSignal(
    combineLatest([toObservable(this.shown), this.ticks]).pipe(
      switchMap(([id]) =>
        id === undefined
          ? of<Outcome<Answered<'standingEvidence'>>>({})
          : this.api.call('standingEvidence', { id }).pipe(outcome<Answered<'standingEvidence'>>()),
      ),
    ),
  );
  protected readonly evidence = computed(() => (this.shown() === undefined ? undefined : this.proof()?.value?.rows));
  protected readonly words = stateWord;

  protected when({ body: { schedule } }: StandingRow): string {
    if (schedule.every === 'point') return 'whenever there is a newer point';
    if (schedule.every === 'hour') return `every hour at ${formatList(schedule.past.map(String))} past`;
    if (schedule.every === 'day') return `every day at ${schedule.at}`;
    return `${formatList(schedule.days.map((d) => dayNames[d - 1]!))} at ${schedule.at}`;
  }

  protected show(row: StandingRow): void {
    const shown = this.shown() === row.id ? null : row.id;
    void this.router.navigate([], { queryParams: { shown }, queryParamsHandling: 'merge', replaceUrl: true });
  }

  protected run(row: StandingRow): void {
    this.problem.set('');
    this.api.call('startStanding', { id: row.id }).subscribe({
      next: ({ runId }) => void this.router.navigate(['/runs', runId]),
      error: (f: ApiFailure) => {
        this.problem.set(f.message);
      },
    });
  }

  protected end(row: StandingRow): void {
    this.problem.set('');
    this.api.call('removeStanding', { id: row.id }).subscribe({
      next: () => {
        this.ending.set(undefined);
        this.again.next();
      },
      error: (f: ApiFailure) => {
        this.problem.set(f.message);
      },
    });
  }
}
