import { DateTime } from 'luxon';

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

const units = ['weeks', 'months', 'years'] as const;
const words = { weeks: 'weekly', months: 'monthly', years: 'yearly' } as const;

/** Which period an instant belongs to, as a text. */
function periodOf(unit: (typeof units)[number], moment: DateTime, day: number): string {
  if (unit === 'years') return String(moment.year);
  if (unit === 'months') return moment.toFormat('yyyy-MM');
  return moment.minus({ days: (moment.weekday - day + 7) % 7 }).toFormat('yyyy-MM-dd');
}

/**
 * Until when the first point of each period is kept. The first one is taken, as it stays the first whatever comes later. `moments` in ms, any order; weeks, months and years are
 * those of the zone. A moment that begins several periods is kept for the longest of them.
 */
export function longTermEnds(moments: readonly number[], rule: LongTerm, zone: string): Map<number, LongTermEnd> {
  const ends = new Map<number, LongTermEnd>();
  const oldestFirst = [...moments].sort((a, b) => a - b).map((at) => DateTime.fromMillis(at, { zone }));
  for (const unit of units) {
    const count = rule[unit];
    if (count <= 0) continue;
    let last = '';
    for (const moment of oldestFirst) {
      const period = periodOf(unit, moment, rule.day);
      if (period === last) continue;
      last = period;
      const until = moment.plus({ [unit]: count }).toMillis();
      if (until > (ends.get(moment.toMillis())?.until ?? 0))
        ends.set(moment.toMillis(), {
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
