import { DateTime, type Zone } from 'luxon';
import { zoneOf } from '../time/zone';

/** Points kept beyond the ordinary retention: the first sound one of each week, month and year. */
export interface LongTerm {
  /** For how many weeks, months and years the first point of each is kept; 0 for none. */
  readonly weeks: number;
  readonly months: number;
  readonly years: number;
  /** ISO weekday on which a week begins, 1 = Monday. */
  readonly day: number;
}

export interface LongTermEnd {
  /** Instant, ms. */
  readonly until: number;
  readonly why: string;
}

export const longTermUnits = ['weeks', 'months', 'years'] as const;
type Unit = (typeof longTermUnits)[number];
const dayMs = 86_400_000;
const words = { weeks: 'weekly', months: 'monthly', years: 'yearly' } as const;

/** The calendar of a zone, for one first day of the week; remembers the sums it was asked for. */
export class Calendar {
  private readonly zone: Zone;
  private readonly sums: Record<Unit, Map<number, number>> = { weeks: new Map(), months: new Map(), years: new Map() };
  private readonly counts: Record<Unit, number> = { weeks: 0, months: 0, years: 0 };

  constructor(
    zone: string,
    private readonly day: number,
  ) {
    this.zone = zoneOf(zone);
  }

  /** Number of the period an instant (ms) belongs to; periods follow each other, so do their numbers. */
  period(unit: Unit, at: number): number {
    const local = at + this.zone.offset(at) * 60_000;
    // 1 January 1970 was a Thursday
    if (unit === 'weeks') return Math.floor((Math.floor(local / dayMs) + 4 - this.day) / 7);
    const date = new Date(local);
    return unit === 'years' ? date.getUTCFullYear() : date.getUTCFullYear() * 12 + date.getUTCMonth();
  }

  /** The instant so many weeks, months or years later. */
  later(at: number, unit: Unit, count: number): number {
    if (this.counts[unit] !== count) this.sums[unit].clear();
    this.counts[unit] = count;
    const sum =
      this.sums[unit].get(at) ??
      DateTime.fromMillis(at, { zone: this.zone })
        .plus({ [unit]: count })
        .toMillis();
    this.sums[unit].set(at, sum);
    return sum;
  }
}

/**
 * Until when the first point of each period is kept. The first one is taken, as it stays the first whatever comes later. `moments` in ms, any order; weeks, months and years are
 * those of the calendar. A moment that begins several periods is kept for the longest of them.
 */
export function longTermEnds(
  moments: readonly number[],
  rule: LongTerm,
  zone: string,
  calendar = new Calendar(zone, rule.day),
): Map<number, LongTermEnd> {
  const ends = new Map<number, LongTermEnd>();
  const oldestFirst = [...moments].sort((a, b) => a - b);
  for (const unit of longTermUnits) {
    const count = rule[unit];
    if (count <= 0) continue;
    let last: number | undefined;
    for (const moment of oldestFirst) {
      const period = calendar.period(unit, moment);
      if (period === last) continue;
      last = period;
      const until = calendar.later(moment, unit, count);
      if (until > (ends.get(moment)?.until ?? 0))
        ends.set(moment, {
          until,
          why: `the ${words[unit]} point, kept for ${count} ${count === 1 ? unit.slice(0, -1) : unit}`,
        });
    }
  }
  return ends;
}

/** Days after which nothing of the rule is left. */
export function longTermDays(rule: LongTerm): number {
  return Math.max(rule.weeks * 7, rule.months * 31, rule.years * 366);
}
