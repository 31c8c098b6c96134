import { ChangeDetectionStrategy, Component, computed, input, output } from '@angular/core';
import { ClockTime, type PolicyRule } from '@lithodex/contract';
import { countOf, hourSteps, minuteSteps, pauseSteps } from '@lithodex/core';
import { Slot, type SlotOption } from '../ui/slot';
import { monthDayWords, nths, weekdays } from './sentence';

type Schedule = PolicyRule['schedule'];
type Every = Schedule['every'];
type MonthDay = Extract<Schedule, { every: 'month' }>['on'];

const clockTimes = Array.from({ length: 48 }, (_, i) => `${String(i >> 1).padStart(2, '0')}:${i % 2 ? '30' : '00'}`);
const ends: readonly MonthDay[] = [{ day: 1 }, { day: 15 }, { day: 31 }];
const monthDays: readonly MonthDay[] = [
  ...ends,
  ...nths.flatMap((_word, n) => weekdays.map((_day, d) => ({ nth: n + 1, weekday: d + 1 }))),
  ...Array.from({ length: 30 }, (_, i) => ({ day: i + 1 })).filter(({ day }) => day !== 1 && day !== 15),
];
const keyOf = (on: MonthDay) => JSON.stringify(on);

/** The beginning of a rule's sentence: when it runs. */
@Component({
  selector: 'lx-schedule-rule',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Slot],
  template: `
    Every
    <lx-slot label="rhythm" [options]="rhythms()" [value]="schedule().every" (valueChange)="setEvery($event)" [disabled]="disabled()" />
    @let s = schedule();
    @switch (s.every) {
      @case ('week') {
        on
        @for (day of weekdays; track day; let i = $index) {
          <button
            type="button"
            class="day"
            [class.on]="s.days.includes(i + 1)"
            [attr.aria-pressed]="s.days.includes(i + 1)"
            [disabled]="disabled()"
            (click)="toggleDay(i + 1)"
          >
            {{ day.slice(0, 2) }}
          </button>
        }
      }
      @case ('month') {
        on
        <lx-slot
          label="day of the month"
          [options]="monthDays"
          [value]="monthDay()"
          [text]="monthDayWords(s.on)"
          (valueChange)="setMonthDay($event)"
          [disabled]="disabled()"
        />
      }
      @case ('hours') {
        ,
        <lx-slot label="hours between" [options]="hours" [value]="s.hours" (valueChange)="setHours($event)" [disabled]="disabled()" />
        apart, from
      }
      @case ('minutes') {
        ,
        <lx-slot
          label="minutes between"
          [options]="minutes"
          [value]="s.minutes"
          (valueChange)="setMinutes($event)"
          [disabled]="disabled()"
        />
        apart, day and night,
      }
      @case ('hour') {
        at
        <lx-slot
          label="minutes past the hour"
          [options]="pasts"
          [value]="s.past.join(' and ')"
          [text]="s.past.join(' and ')"
          (valueChange)="setPast($event)"
          free="or type 0 and 40"
          (entered)="setPast($event)"
          [disabled]="disabled()"
        />
        past
      }
      @case ('continuous') {
        ,
        <lx-slot label="pause" [options]="pauses" [value]="s.pauseMinutes" (valueChange)="setPause($event)" [disabled]="disabled()" />
        later, all the time:
      }
      @case ('after') {
        <lx-slot
          label="policy to follow"
          [options]="others()"
          [value]="s.policyId"
          (valueChange)="follow($event)"
          [disabled]="disabled()"
        />
        has ended well,
      }
    }
    @if (at(); as t) {
      @if (s.every !== 'hours') {
        at
      }
      <lx-slot
        label="time"
        [options]="times"
        [value]="t"
        [text]="t"
        (valueChange)="setAt($event)"
        free="or type 21:45"
        (entered)="setAt($event)"
        [disabled]="disabled()"
      />
    }
  `,
  styles: `
    .day {
      border: 1px solid var(--line-2);
      background: none;
      border-radius: 5px;
      font-size: 12px;
      padding: 0 6px;
      line-height: 1.6;
      margin-right: 2px;
      color: var(--ink-2);
    }
    .day.on {
      background: var(--lapis);
      color: var(--on-lapis);
      border-color: var(--lapis);
    }
  `,
})
export class ScheduleRule {
  readonly schedule = input.required<Schedule>();
  /** Policies that can be followed, by id. */
  readonly policies = input.required<readonly { readonly id: number; readonly name: string }[]>();
  /** Whether it is of a log, which can be followed without a pause. */
  readonly followable = input(false);
  readonly disabled = input(false);
  readonly changed = output<Schedule>();

  protected readonly weekdays = weekdays;
  protected readonly monthDayWords = monthDayWords;
  protected readonly others = computed(() => this.policies().map((p): SlotOption<number> => ({ value: p.id, label: p.name })));
  protected readonly everyOptions = computed((): SlotOption<Every>[] => [
    { value: 'day', label: 'day' },
    { value: 'week', label: 'week, on chosen days' },
    { value: 'month', label: 'month' },
    { value: 'hours', label: 'few hours' },
    { value: 'minutes', label: 'few minutes' },
    { value: 'hour', label: 'hour, at chosen minutes' },
    { value: 'continuous', label: 'time its last run has ended', note: 'all the time' },
    { value: 'moment', label: 'moment', note: 'the log is followed: what is new is taken within seconds' },
    ...(this.others().length ? [{ value: 'after' as const, label: 'time', note: 'another policy has ended well' }] : []),
    { value: 'hand', label: 'time a person starts it' },
  ]);
  /** Only a log is followed. */
  protected readonly rhythms = computed(() => this.everyOptions().filter((o) => o.value !== 'moment' || this.followable()));
  protected readonly times = clockTimes.map((t): SlotOption<string> => ({ value: t, label: t }));
  protected readonly hours = hourSteps.map((h): SlotOption<number> => ({ value: h, label: h === 1 ? '1 hour' : `${h} hours` }));
  protected readonly minutes = minuteSteps.map((m): SlotOption<number> => ({ value: m, label: countOf(m, 'minute') }));
  protected readonly pasts = ['0', '30', '0 and 30', '0 and 40', '15 and 45', '10, 30 and 50'].map((text): SlotOption<string> => ({
    value: text,
    label: `${text} minutes past`,
  }));
  protected readonly pauses = pauseSteps.map((m): SlotOption<number> => ({ value: m, label: countOf(m, 'minute') }));
  protected readonly monthDays = monthDays.map((on): SlotOption<string> => ({ value: keyOf(on), label: monthDayWords(on) }));
  protected readonly monthDay = computed(() => {
    const s = this.schedule();
    return s.every === 'month' ? keyOf(s.on) : '';
  });
  protected readonly at = computed(() => {
    const s = this.schedule();
    return 'at' in s ? s.at : null;
  });

  protected setEvery(every: Every): void {
    const at = this.at() ?? '22:00';
    const starts: Record<Every, () => Schedule> = {
      day: () => ({ every: 'day', at }),
      week: () => ({ every: 'week', days: [7], at }),
      month: () => ({ every: 'month', on: { day: 1 }, at }),
      hours: () => ({ every: 'hours', hours: 6, at: '00:00' }),
      minutes: () => ({ every: 'minutes', minutes: 30 }),
      hour: () => ({ every: 'hour', past: [0, 40] }),
      continuous: () => ({ every: 'continuous', pauseMinutes: 15 }),
      moment: () => ({ every: 'moment' }),
      after: () => ({ every: 'after', policyId: this.others()[0]!.value }),
      hand: () => ({ every: 'hand' }),
    };
    this.changed.emit(starts[every]());
  }

  protected setAt(at: string): void {
    const s = this.schedule();
    if ('at' in s && ClockTime.safeParse(at).success) this.changed.emit({ ...s, at });
  }

  protected setHours(hours: number): void {
    const s = this.schedule();
    if (s.every === 'hours') this.changed.emit({ ...s, hours });
  }

  protected setMinutes(minutes: number): void {
    this.changed.emit({ every: 'minutes', minutes });
  }

  /** Minutes as somebody writes them: "0 and 40", "5, 25, 45". */
  protected setPast(text: string): void {
    const past = [
      ...new Set(
        text
          .split(/[^\d]+/)
          .filter(Boolean)
          .map(Number),
      ),
    ]
      .filter((m) => m < 60)
      .sort((a, b) => a - b);
    if (past.length && past.length <= 12) this.changed.emit({ every: 'hour', past });
  }

  protected setPause(pauseMinutes: number): void {
    this.changed.emit({ every: 'continuous', pauseMinutes });
  }

  protected follow(policyId: number): void {
    this.changed.emit({ every: 'after', policyId });
  }

  protected setMonthDay(key: string): void {
    const s = this.schedule();
    if (s.every === 'month') this.changed.emit({ ...s, on: JSON.parse(key) as MonthDay });
  }

  protected toggleDay(day: number): void {
    const s = this.schedule();
    if (s.every !== 'week') return;
    const days = s.days.includes(day) ? s.days.filter((d) => d !== day) : [...s.days, day].sort();
    if (days.length) this.changed.emit({ ...s, days });
  }
}
