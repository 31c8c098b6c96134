import { ChangeDetectionStrategy, Component, computed, inject, input } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { Router, RouterLink } from '@angular/router';
import type { RunCalendar } from '@lithodex/contract';
import { countOf } from '@lithodex/core';
import { DateTime } from 'luxon';
import { switchMap } from 'rxjs';
import { addressOf, Api } from '../data/api';
import { Live } from '../data/live';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { formatPipes } from '../ui/format-pipes';
import { StateMark, stateWord } from '../ui/state-mark';
import { NightAhead } from './night-ahead';
import { weekdays } from './sentence';

type Run = RunCalendar['days'][number]['runs'][number];
const mostShown = { month: 4, week: 30 };

const wentWell = ({ was }: Run) => !was || was.state === 'done';

/** The first so many runs, those that did not go well before any others. */
function telling(runs: readonly Run[], most: number): Run[] {
  const chosen = new Set([...runs.filter((r) => !wentWell(r)), ...runs.filter(wentWell)].slice(0, most));
  return runs.filter((r) => chosen.has(r));
}

function wordsOf({ workloads, follows, was }: Run): string {
  const state = was && was.state !== 'done' ? [stateWord(was.state)] : [];
  return [countOf(workloads, 'workload'), ...(follows ? [`after ${follows}`] : []), ...state].join(', ');
}

/** The runs that were and those to come, by month or week, and how the next 24 hours will go. */
@Component({
  selector: 'lx-calendar-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, NightAhead, StateMark, ...formatPipes],
  host: { '(document:keydown)': 'onKey($event)' },
  template: `<div class="page">
    <div class="row-line">
      <h1>{{ heading() }}</h1>
      <button type="button" class="act sm" aria-label="Before" (click)="step(-1)">‹</button>
      <button type="button" class="act sm" (click)="go({ day: null })">Today</button>
      <button type="button" class="act sm" aria-label="After" (click)="step(1)">›</button>
      <button type="button" class="act sm" [attr.aria-pressed]="!weekly()" [class.go]="!weekly()" (click)="go({ view: null })">
        Month
      </button>
      <button type="button" class="act sm" [attr.aria-pressed]="weekly()" [class.go]="weekly()" (click)="go({ view: 'week' })">Week</button>
      <span class="grow"></span>
      <a [href]="feed" title="Subscribe with a token as password: Trust, API tokens">For calendar programs</a>
      <a class="act" routerLink="/policies">All policies</a>
    </div>
    @if (result()?.failure; as f) {
      <div class="problem" role="alert">{{ f.message }}</div>
    }
    <div class="two">
      <section class="sheet month" aria-label="Runs by day" tabindex="0">
        @for (name of weekdays; track name) {
          <span class="weekday">{{ name }}</span>
        }
        @for (day of days(); track day.date) {
          <div class="day" role="group" [attr.aria-label]="day.date" [class.other]="day.other" [class.today]="day.date === today()">
            <span class="head">
              <button
                type="button"
                class="date"
                [attr.aria-label]="day.label + ': week of ' + day.date"
                (click)="go({ view: 'week', day: day.date })"
              >
                {{ day.label }}
              </button>
              @if (day.more) {
                <button type="button" class="plain small more" (click)="go({ view: 'week', day: day.date })">
                  and {{ day.more }} more
                </button>
              }
            </span>
            @for (run of day.shown; track $index) {
              <a
                class="run"
                [class.was]="run.was"
                [class.cut]="!weekly()"
                [routerLink]="run.where.path"
                [queryParams]="run.where.query"
                [title]="run.name + ', ' + run.words"
              >
                @if (run.was && run.was.state !== 'done') {
                  <lx-mark [state]="run.was.state" />
                }
                <span class="num">{{ clock(run) }}</span> {{ run.name }}
                @if (weekly()) {
                  <small class="mute">{{ run.words }}</small>
                }
              </a>
            }
            @if (day.closed.length) {
              <span class="small mute cut" [title]="day.closed.join(', ')">closed: {{ day.closed.join(', ') }}</span>
            }
          </div>
        }
      </section>
      <lx-night-ahead class="sheet scroll" tabindex="0" />
    </div>
  </div>`,
  styleUrl: './calendar-page.scss',
})
export class CalendarPage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  private readonly session = inject(Session);
  private readonly live = inject(Live);
  readonly view = input<string>();
  readonly day = input<string>();

  protected readonly weekdays = weekdays;
  protected readonly feed = addressOf('calendarFeed', '');
  protected readonly weekly = computed(() => this.view() === 'week');
  private readonly now = computed(() => DateTime.fromMillis(this.session.now(), { zone: this.session.zone() }));
  protected readonly today = computed(() => this.now().toFormat('yyyy-MM-dd'));
  private readonly chosen = computed(() => {
    const day = DateTime.fromISO(this.day() ?? '', { zone: this.session.zone() });
    return day.isValid ? day : this.now().startOf('day');
  });
  private readonly span = computed(() => {
    const unit = this.weekly() ? 'week' : 'month';
    return { from: this.chosen().startOf(unit).startOf('week'), to: this.chosen().endOf(unit).endOf('week') };
  });
  protected readonly heading = computed(() =>
    this.weekly() ? `Week ${this.chosen().weekNumber}, ${this.chosen().toFormat('LLLL yyyy')}` : this.chosen().toFormat('LLLL yyyy'),
  );
  protected readonly result = toSignal(
    toObservable(this.span).pipe(
      switchMap(({ from, to }) =>
        this.live.reloading(
          () => this.api.call('runCalendar', { query: { from: from.toMillis(), to: to.toMillis() } }).pipe(outcome<RunCalendar>()),
          (e) => e.kind === 'policy' || e.kind === 'run',
        ),
      ),
    ),
  );
  protected readonly days = computed(() => {
    const most = mostShown[this.weekly() ? 'week' : 'month'];
    return (this.result()?.value?.days ?? []).map((day) => {
      const date = DateTime.fromISO(day.date);
      return {
        ...day,
        label: date.day === 1 ? date.toFormat('d LLL') : String(date.day),
        other: !this.weekly() && date.month !== this.chosen().month,
        shown: telling(day.runs, most).map((run) => ({ ...run, words: wordsOf(run), where: this.whereOf(run, day.date) })),
        more: Math.max(0, day.runs.length - most),
      };
    });
  });

  /** What was leads to its run, or to those of the day; what comes to its policy. */
  private whereOf({ was, count, policyId }: Run, date: string): { path: (string | number)[]; query: Record<string, number> } {
    if (!was) return { path: ['/policies', policyId], query: {} };
    if (count === 1) return { path: ['/runs', was.runId], query: {} };
    const day = DateTime.fromISO(date, { zone: this.session.zone() });
    return { path: ['/runs'], query: { policy: policyId, from: day.toMillis(), to: day.plus({ days: 1 }).toMillis() } };
  }

  protected clock(run: Run): string {
    if (run.continuous) return 'all day';
    return run.count > 1 ? `${run.count} ×` : DateTime.fromMillis(run.first, { zone: this.session.zone() }).toFormat('HH:mm');
  }

  protected go(query: { view?: string | null; day?: string | null }): void {
    void this.router.navigate([], { queryParams: query, queryParamsHandling: 'merge' });
  }

  protected step(by: number): void {
    const day = this.chosen().plus(this.weekly() ? { weeks: by } : { months: by });
    this.go({ day: day.toFormat('yyyy-MM-dd') });
  }

  protected onKey(event: KeyboardEvent): void {
    if (event.target instanceof HTMLInputElement || event.ctrlKey || event.metaKey || event.altKey) return;
    if (event.key === 'ArrowLeft') this.step(-1);
    else if (event.key === 'ArrowRight') this.step(1);
  }
}
