import { longestGap, runsOn, runsPerDay, type CalendarDay, type Schedule } from '../time/schedule';
import { longTermDays, longTermEnds, type LongTerm } from './long-term';

/** How long points are kept. */
export type Keep =
  | { readonly by: 'days'; readonly days: number; readonly longTerm?: LongTerm | undefined }
  | { readonly by: 'points'; readonly points: number; readonly longTerm?: LongTerm | undefined }
  | { readonly by: 'hand' };

export interface KeptPoint {
  readonly id: string;
  /** Instant of the point, ms. */
  readonly moment: number;
  /** Held by a person or kept until removed by hand. */
  readonly held: boolean;
  /** Looks damaged; a suspect point never displaces another one. */
  readonly suspect: boolean;
  /** Until when nobody can remove it, ms. */
  readonly lockedUntil?: number | undefined;
  /** Until when it was promised to be kept, ms; Infinity until two people let it go. No rule lets it go before. */
  readonly promisedUntil?: number | undefined;
  /** Taken besides the schedule: it displaces no scheduled point. */
  readonly extra?: boolean | undefined;
  /** A keep of its own (on-demand protection) overrides the policy's. */
  readonly keep?: Keep | undefined;
}

export interface KeepDecision {
  readonly id: string;
  readonly expires: boolean;
  /** Instant (ms) until which the point is kept, where that is known in advance. */
  readonly until: number | undefined;
  /** In words: which rule keeps it or lets it go. */
  readonly why: string;
}

const day = 86_400_000;
const mostAges = 400;
const plural = (n: number, unit: string) => `${n} ${unit}${n === 1 ? '' : 's'}`;

/**
 * Decides for every point of one series whether it expires at `now` (ms). Laws: a held, suspect or locked point never expires; the newest sound
 * point never expires; nothing goes before it was promised to; what is taken besides the schedule never displaces a scheduled point; while any
 * point is suspect and `frozen`, nothing expires; a longer keep keeps a superset. Long-term points are told by the calendar of `zone`.
 */
export function decideRetention(points: readonly KeptPoint[], keep: Keep, now: number, frozen: boolean, zone = 'UTC'): KeepDecision[] {
  const newestFirst = [...points].sort((a, b) => b.moment - a.moment);
  const sound = newestFirst.filter((p) => !p.suspect);
  const counted = sound.filter((p) => p.keep === undefined);
  const scheduled = counted.filter((p) => !p.extra);
  const rank = new Map([...counted.map((p, i) => [p.id, i] as const), ...scheduled.map((p, i) => [p.id, i] as const)]);
  const long =
    keep.by !== 'hand' && keep.longTerm
      ? longTermEnds(
          scheduled.map((p) => p.moment),
          keep.longTerm,
          zone,
        )
      : undefined;
  return newestFirst.map((point) => {
    const { lockedUntil = 0, promisedUntil = 0 } = point;
    const promised = until(decideOne(point), promisedUntil, 'promised when it was taken: only two people let it go before');
    return until(promised, lockedUntil, 'locked: nobody can remove it before');
  });

  /** The decision, or that the point stays until an instant where that is later. */
  function until(decision: KeepDecision, end: number, why: string): KeepDecision {
    const outlasts = decision.expires || (decision.until !== undefined && decision.until < end);
    return end > now && outlasts ? { id: decision.id, expires: false, until: end === Infinity ? undefined : end, why } : decision;
  }

  function decideOne(point: KeptPoint): KeepDecision {
    const stay = (why: string, until?: number): KeepDecision => ({ id: point.id, expires: false, until, why });
    if (point.held) return stay('kept until a person removes it');
    if (point.suspect) return stay('suspect: kept apart until a person decides');
    if (point.id === sound[0]?.id) return stay('the newest sound point is always kept');
    if (frozen) return stay('expiry has stopped until a person lifts the suspicion');
    const own = point.keep ?? keep;
    if (own.by === 'hand') return stay('kept until a person removes it');
    const end = point.keep || point.extra ? undefined : long?.get(point.moment);
    const stands = end && end.until > now;
    if (own.by === 'points') {
      const at = rank.get(point.id) ?? 0;
      const why = `the newest ${plural(own.points, 'point')} are kept`;
      if (at < own.points) return stay(why);
      return stands ? stay(end.why, end.until) : { id: point.id, expires: true, until: undefined, why: `only ${why}` };
    }
    const until = point.moment + own.days * day;
    const why = `kept for ${plural(own.days, 'day')}`;
    if (stands && end.until > until) return stay(end.why, end.until);
    return until > now ? stay(why, until) : { id: point.id, expires: true, until, why: `${why}, which have passed` };
  }
}

export interface Settled {
  /** Points standing when the rule has run for long enough; undefined when only a person decides. */
  readonly points: number | undefined;
  /** Age of the oldest of them, in days. */
  readonly furthestDays: number | undefined;
  /** Age of each of them in days, youngest first; at most some hundred. */
  readonly ages: readonly number[];
  /** The multiplication behind it, in words. */
  readonly arithmetic: string;
}

/** How many points stand once a rule has settled, and how far back they reach. */
export function settledPoints(schedule: Schedule, keep: Keep): Settled {
  const short = settledShortTerm(schedule, keep);
  if (keep.by === 'hand' || !keep.longTerm || short.points === undefined) return short;
  const extra = longTermBeyond(schedule, keep.longTerm, short.furthestDays ?? 0);
  const { weeks, months, years } = keep.longTerm;
  const kinds = [weeks && `${weeks} weekly`, months && `${months} monthly`, years && `${years} yearly`].filter(Boolean).join(', ');
  return {
    points: short.points + extra.length,
    furthestDays: Math.max(short.furthestDays ?? 0, ...extra),
    ages: [...short.ages, ...extra].sort((a, b) => a - b),
    arithmetic: `${short.arithmetic}; of ${kinds} ones ${extra.length} are older`,
  };
}

/** Ages in days of the long-term points that are older than `beyond` days, on a settled day of a calendar without time zones. */
function longTermBeyond(schedule: Schedule, rule: LongTerm, beyond: number): number[] {
  const horizon = longTermDays(rule) + 32;
  const settled = Date.UTC(2031, 6, 16);
  const moments: number[] = [];
  for (let age = 0; age <= horizon; age++) {
    const at = settled - age * day;
    if (runsOn(schedule, calendarDay(at))) moments.push(at);
  }
  // the oldest day looked at begins no period of its own: what came before it is not looked at
  const oldest = Math.min(...moments);
  const ends = longTermEnds(moments, rule, 'UTC');
  return [...ends]
    .filter(([at, end]) => at !== oldest && end.until > settled && settled - at >= beyond * day)
    .map(([at]) => (settled - at) / day);
}

function calendarDay(at: number): CalendarDay {
  const date = new Date(at);
  const daysInMonth = new Date(Date.UTC(date.getUTCFullYear(), date.getUTCMonth() + 1, 0)).getUTCDate();
  return { day: date.getUTCDate(), weekday: ((date.getUTCDay() + 6) % 7) + 1, daysInMonth };
}

/** Ages of points that lie evenly over some days. */
function spaced(points: number, days: number): number[] {
  return Array.from({ length: Math.min(points, mostAges) }, (_, i) => ((i + 0.5) * days) / points);
}

function settledShortTerm(schedule: Schedule, keep: Keep): Settled {
  const perDay = runsPerDay(schedule);
  const [often, unit] = perDay >= 1 ? [perDay, 'day'] : schedule.every === 'month' ? [1, 'month'] : [Math.round(perDay * 7), 'week'];
  const rate = `${schedule.every === 'continuous' ? 'at most ' : ''}${plural(often, 'run')} a ${unit}`;
  if (perDay === 0)
    return { points: undefined, furthestDays: undefined, ages: [], arithmetic: 'runs only by hand, so the number depends on a person' };
  if (keep.by === 'hand')
    return { points: undefined, furthestDays: undefined, ages: [], arithmetic: `${rate}, none removed: the number grows without end` };
  if (keep.by === 'days') {
    const points = Math.max(1, Math.floor(keep.days * perDay + 1e-9));
    const times =
      perDay >= 1
        ? `${plural(keep.days, 'day')} × ${rate}`
        : `${plural(keep.days, 'day')} = ${(keep.days / (unit === 'month' ? 30.44 : 7)).toFixed(1)} ${unit}s × ${rate}`;
    return { points, furthestDays: keep.days, ages: spaced(points, keep.days), arithmetic: `${times} = ${plural(points, 'point')}` };
  }
  const gapDays = longestGap(schedule) / day;
  const furthest = perDay >= 1 ? keep.points / perDay : keep.points * Math.min(gapDays, 1 / perDay);
  const rounded = Math.round(furthest * 10) / 10;
  return {
    points: keep.points,
    furthestDays: rounded,
    ages: spaced(keep.points, rounded),
    arithmetic: `${plural(keep.points, 'point')} ÷ ${rate} = ${rounded} days back`,
  };
}

/** Points of a series that one rule decides over. */
export interface RuledPoints {
  readonly points: readonly KeptPoint[];
  readonly keep: Keep;
  /** Whose calendar long-term points are told by. */
  readonly zone: string;
  /** The rule makes no points any more: those of others displace its own, so that none stays for ever for want of a newer one. */
  readonly ended: boolean;
}

/**
 * Decides over a series whose points were made by several rules, each of which lets go of its own only. What {@link decideRetention} holds for a series holds for the points of each rule that
 * is in force; points of ended ones go as if all points were of their rule.
 */
export function decideByRules(rules: readonly RuledPoints[], now: number, frozen: boolean): KeepDecision[] {
  const all = rules.flatMap((r) => r.points);
  return rules.flatMap(({ points, keep, zone, ended }) => {
    if (!ended) return decideRetention(points, keep, now, frozen, zone);
    const own = new Set(points.map((p) => p.id));
    return decideRetention(all, keep, now, frozen, zone).filter((d) => own.has(d.id));
  });
}
