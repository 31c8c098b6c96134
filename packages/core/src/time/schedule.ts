import { DateTime } from 'luxon';
import { zoneOf } from './zone';

/** A day of the month by its number (the last day in months that are shorter), or the nth of a weekday (1 = Monday); 5 is the last. */
export type MonthDay = { readonly day: number } | { readonly nth: number; readonly weekday: number };

/** When a rule runs. Wall-clock times are read in the policy's zone. */
export type Schedule =
  | { readonly every: 'day'; readonly at: string }
  /** Days as ISO weekdays, 1 = Monday. */
  | { readonly every: 'week'; readonly days: readonly number[]; readonly at: string }
  | { readonly every: 'month'; readonly on: MonthDay; readonly at: string }
  /** Hours between runs; a divisor of 24, counted from `at` through the day. */
  | { readonly every: 'hours'; readonly hours: number; readonly at: string }
  /** Minutes between runs, counted from midnight. */
  | { readonly every: 'minutes'; readonly minutes: number }
  /** So many minutes past each hour, in ascending order. */
  | { readonly every: 'hour'; readonly past: readonly number[] }
  /** All the time: when the run before has ended and so many minutes have passed. Ahead, it is taken to be as often as that could be at most. */
  | { readonly every: 'continuous'; readonly pauseMinutes: number }
  /** Without a pause: what is new is taken within seconds. Ahead, it is taken to be every minute. */
  | { readonly every: 'moment' }
  /** When a run of another policy has ended. */
  | { readonly every: 'after'; readonly policyId: number }
  | { readonly every: 'hand' };

export const hourSteps = [1, 2, 3, 4, 6, 8, 12] as const;
export const minuteSteps = [1, 2, 5, 10, 15, 20, 30] as const;
export const pauseSteps = [5, 10, 15, 30, 60] as const;

/** A schedule with what it is read in. */
export interface Timetable {
  readonly schedule: Schedule;
  readonly zone: string;
  /** Local days without runs: dates such as 2027-05-17, and days of every year such as 12-25. */
  readonly closed?: readonly string[];
}

const dayMs = 86_400_000;
const minuteMs = 60_000;
/** So old may what is new be that is taken without a pause. */
const momentMs = 5000;
/** Days that are looked through for a run before it is taken that there are none. */
const mostDays = 8 * 366;

function clock(at: string): { hour: number; minute: number } {
  const [hour, minute] = at.split(':').map(Number);
  return { hour: hour ?? 0, minute: minute ?? 0 };
}

/** A day of the calendar, months and weekdays counted from 1. */
export interface CalendarDay {
  readonly day: number;
  readonly weekday: number;
  readonly daysInMonth: number;
}

/** Whether a schedule has runs on a day of the calendar. */
export function runsOn(schedule: Schedule, { day, weekday, daysInMonth }: CalendarDay): boolean {
  if (schedule.every === 'week') return schedule.days.includes(weekday);
  if (schedule.every !== 'month') return schedule.every !== 'hand' && schedule.every !== 'after';
  const { on } = schedule;
  if ('day' in on) return day === Math.min(on.day, daysInMonth);
  return on.weekday === weekday && (on.nth === 5 ? day + 7 > daysInMonth : Math.ceil(day / 7) === on.nth);
}

/**
 * Instants (ms) of one local day. A wall time that a daylight-saving change skips is taken as much later as the clock jumped; a wall time
 * that comes twice counts once, at its first occurrence.
 */
function instantsOf({ schedule, closed }: Timetable, day: DateTime): number[] {
  if (schedule.every === 'hand' || schedule.every === 'after') return [];
  if (!runsOn(schedule, { day: day.day, weekday: day.weekday, daysInMonth: day.daysInMonth ?? 31 })) return [];
  if (closed?.length && isClosed(closed, day)) return [];
  if (schedule.every === 'hour') {
    const to = day.plus({ days: 1 }).toMillis();
    const instants: number[] = [];
    for (let hour = day.toMillis(); hour < to; hour += 60 * minuteMs)
      for (const minute of schedule.past) instants.push(hour + minute * minuteMs);
    return instants;
  }
  if (!('at' in schedule)) {
    const apart = schedule.every === 'minutes' ? schedule.minutes : schedule.every === 'moment' ? 1 : schedule.pauseMinutes;
    const [from, to, step] = [day.toMillis(), day.plus({ days: 1 }).toMillis(), apart * minuteMs];
    return Array.from({ length: Math.ceil((to - from) / step) }, (_, i) => from + i * step);
  }
  const { hour, minute } = clock(schedule.at);
  const hours: number[] = [];
  if (schedule.every === 'hours') for (let h = hour % schedule.hours; h < 24; h += schedule.hours) hours.push(h);
  else hours.push(hour);
  const instants = hours.map((h) => instantAt(day, h, minute));
  return [...new Set(instants)].sort((a, b) => a - b);
}

/** The instant (ms) of a wall time on a local day, see {@link instantsOf}. */
export function instantAt(day: DateTime, hour: number, minute: number): number {
  const wanted = DateTime.fromObject({ year: day.year, month: day.month, day: day.day, hour, minute }, { zone: day.zone });
  const earlier = wanted.minus({ hours: 1 });
  return earlier.hour === hour && earlier.minute === minute ? earlier.toMillis() : wanted.toMillis();
}

function isClosed(closed: readonly string[], day: DateTime): boolean {
  const date = day.toFormat('yyyy-MM-dd');
  return closed.includes(date) || closed.includes(date.slice(5));
}

const dayOf = (at: number, zone: string) => DateTime.fromMillis(at, { zone: zoneOf(zone) }).startOf('day');

/** The next `count` instants strictly after `after` (all in ms since the epoch); fewer only where there are no more. */
export function nextRuns(timetable: Timetable, after: number, count: number): number[] {
  const { every } = timetable.schedule;
  if (every === 'hand' || every === 'after') return [];
  const found: number[] = [];
  let day = dayOf(after, timetable.zone).minus({ days: 1 });
  for (let idle = 0; found.length < count && idle < mostDays; idle++) {
    for (const instant of instantsOf(timetable, day))
      if (instant > after && found.length < count) {
        found.push(instant);
        idle = 0;
      }
    day = day.plus({ days: 1 });
  }
  return found;
}

/** The instants in (after, until], oldest first, in ms. */
export function runsBetween(timetable: Timetable, after: number, until: number): number[] {
  const found: number[] = [];
  const last = dayOf(until, timetable.zone).plus({ days: 1 });
  for (let day = dayOf(after, timetable.zone).minus({ days: 1 }); day <= last; day = day.plus({ days: 1 }))
    found.push(...instantsOf(timetable, day).filter((t) => t > after && t <= until));
  return found;
}

/** The latest instant in (after, until], or undefined: what is due now, taking several missed ones as one. */
export function dueSince(timetable: Timetable, after: number, until: number): number | undefined {
  const { every } = timetable.schedule;
  if (every === 'hand' || every === 'after') return undefined;
  const first = dayOf(after, timetable.zone).minus({ days: 1 });
  for (let day = dayOf(until, timetable.zone).plus({ days: 1 }); day >= first; day = day.minus({ days: 1 })) {
    const fitting = instantsOf(timetable, day).filter((t) => t > after && t <= until);
    if (fitting.length) return fitting[fitting.length - 1];
  }
  return undefined;
}

/** Whether what runs all the time is due at `now` (ms): so many minutes after `ended`, the end of what it did last, and not on a closed day. */
export function isRested(
  { zone, closed = [] }: Pick<Timetable, 'zone' | 'closed'>,
  pauseMinutes: number,
  ended: number,
  now: number,
): boolean {
  return ended + pauseMinutes * minuteMs <= now && !isClosed(closed, dayOf(now, zone));
}

/** Runs on an ordinary day (no daylight-saving change, nothing closed), averaged over a week or a year; of what runs all the time the most there can be. */
export function runsPerDay(schedule: Schedule): number {
  switch (schedule.every) {
    case 'day':
      return 1;
    case 'week':
      return schedule.days.length / 7;
    case 'month':
      return 12 / 365.25;
    case 'hours':
      return 24 / schedule.hours;
    case 'minutes':
      return 1440 / schedule.minutes;
    case 'hour':
      return 24 * schedule.past.length;
    case 'continuous':
      return 1440 / schedule.pauseMinutes;
    case 'moment':
      return 1440;
    case 'after':
    case 'hand':
      return 0;
  }
}

/** Longest time between two runs on ordinary days, in ms; Infinity where a person or another policy decides; of what runs all the time the pause, to which its run comes. */
export function longestGap(schedule: Schedule): number {
  switch (schedule.every) {
    case 'day':
      return dayMs;
    case 'month':
      return ('day' in schedule.on ? 31 : 35) * dayMs;
    case 'hours':
      return (schedule.hours * dayMs) / 24;
    case 'minutes':
      return schedule.minutes * minuteMs;
    case 'hour': {
      const { past } = schedule;
      return Math.max(...past.map((minute, i) => (past[i + 1] ?? past[0]! + 60) - minute)) * minuteMs;
    }
    case 'continuous':
      return schedule.pauseMinutes * minuteMs;
    case 'moment':
      return momentMs;
    case 'after':
    case 'hand':
      return Infinity;
    case 'week': {
      if (schedule.days.length === 0) return Infinity;
      const days = [...schedule.days].sort((a, b) => a - b);
      return Math.max(...days.map((d, i) => ((days[(i + 1) % days.length]! - d + 7) % 7 || 7) * dayMs));
    }
  }
}
