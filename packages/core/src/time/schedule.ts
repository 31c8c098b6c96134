import { DateTime } from 'luxon';
import { zoneOf } from './zone';

/** When a rule runs. Wall-clock times are read in the policy's zone. */
export type Schedule =
  | { readonly every: 'day'; readonly at: string }
  /** Days as ISO weekdays, 1 = Monday. */
  | { readonly every: 'week'; readonly days: readonly number[]; readonly at: string }
  /** Hours between runs; a divisor of 24, counted from `at` through the day. */
  | { readonly every: 'hours'; readonly hours: number; readonly at: string }
  | { readonly every: 'hand' };

export const hourSteps = [1, 2, 3, 4, 6, 8, 12] as const;

function clock(at: string): { hour: number; minute: number } {
  const [hour, minute] = at.split(':').map(Number);
  return { hour: hour ?? 0, minute: minute ?? 0 };
}

/**
 * Instants (ms) of one local day. A wall time that a daylight-saving change skips is taken as much later as the clock jumped; a wall time
 * that comes twice counts once, at its first occurrence.
 */
function instantsOf(schedule: Schedule, day: DateTime): number[] {
  if (schedule.every === 'hand') return [];
  if (schedule.every === 'week' && !schedule.days.includes(day.weekday)) return [];
  const { hour, minute } = clock(schedule.at);
  const hours: number[] = [];
  if (schedule.every === 'hours') for (let h = hour % schedule.hours; h < 24; h += schedule.hours) hours.push(h);
  else hours.push(hour);
  const instants = hours.map((h) => {
    const wanted = DateTime.fromObject({ year: day.year, month: day.month, day: day.day, hour: h, minute }, { zone: day.zone });
    const earlier = wanted.minus({ hours: 1 });
    return earlier.hour === h && earlier.minute === minute ? earlier.toMillis() : wanted.toMillis();
  });
  return [...new Set(instants)].sort((a, b) => a - b);
}

/** The next `count` instants strictly after `after` (all in ms since the epoch); fewer only where the schedule is by hand. */
export function nextRuns(schedule: Schedule, zone: string, after: number, count: number): number[] {
  if (schedule.every === 'hand' || (schedule.every === 'week' && schedule.days.length === 0)) return [];
  const found: number[] = [];
  let day = DateTime.fromMillis(after, { zone: zoneOf(zone) })
    .startOf('day')
    .minus({ days: 1 });
  while (found.length < count) {
    for (const instant of instantsOf(schedule, day)) if (instant > after && found.length < count) found.push(instant);
    day = day.plus({ days: 1 });
  }
  return found;
}

/** The latest instant in (after, until], or undefined: what is due now, taking several missed ones as one. */
export function dueSince(schedule: Schedule, zone: string, after: number, until: number): number | undefined {
  if (schedule.every === 'hand') return undefined;
  let day = DateTime.fromMillis(until, { zone: zoneOf(zone) })
    .startOf('day')
    .plus({ days: 1 });
  const first = DateTime.fromMillis(after, { zone: zoneOf(zone) })
    .startOf('day')
    .minus({ days: 1 });
  for (; day >= first; day = day.minus({ days: 1 })) {
    const fitting = instantsOf(schedule, day).filter((t) => t > after && t <= until);
    if (fitting.length) return fitting[fitting.length - 1];
  }
  return undefined;
}

/** Runs on an ordinary day (no daylight-saving change), averaged over a week. */
export function runsPerDay(schedule: Schedule): number {
  switch (schedule.every) {
    case 'day':
      return 1;
    case 'week':
      return schedule.days.length / 7;
    case 'hours':
      return 24 / schedule.hours;
    case 'hand':
      return 0;
  }
}

/** Longest time between two runs on an ordinary week, in ms; Infinity by hand. */
export function longestGap(schedule: Schedule): number {
  const hour = 3_600_000;
  if (schedule.every === 'day') return 24 * hour;
  if (schedule.every === 'hours') return schedule.hours * hour;
  if (schedule.every === 'hand' || schedule.days.length === 0) return Infinity;
  const days = [...schedule.days].sort((a, b) => a - b);
  return Math.max(...days.map((d, i) => ((days[(i + 1) % days.length]! - d + 7) % 7 || 7) * 24 * hour));
}
