import { zoneOf } from '../time/zone';
import type { Keep } from '../retention/retention';
import { longTermUnits, type Calendar, type LongTerm } from '../retention/long-term';

const day = 86_400_000;

/** How points are made away with: the keep of a rule and its lock. */
export interface Ending {
  readonly keep: Keep;
  /** Days from a point's moment on which nobody can remove it; 0 for none. */
  readonly lockDays: number;
  /** Whose calendar long-term points are told by. */
  readonly zone: string;
}

/**
 * Until when points are kept, in ms, Infinity for never ending: what {@link decideRetention} says if it is asked at every instant, for rows of points that all go on with the same ones to
 * come. All are sound and unheld. The newest is kept while there is no newer one.
 */
export class Ends {
  readonly future: Float64Array;
  private readonly futureEnds: Float64Array;
  /** Of the points to come, those that begin a period: unit, period, index. */
  private readonly beginners = new Map<string, number>();

  constructor(
    private readonly rule: Ending,
    future: readonly number[],
    private readonly calendar: Calendar,
  ) {
    this.future = Float64Array.from(future);
    this.futureEnds = this.plainEnds(this.future);
    const long = this.longTerm;
    if (!long) return;
    for (const unit of longTermUnits) {
      if (long[unit] <= 0) continue;
      for (let i = 0; i < future.length; i++) {
        const key = `${unit} ${calendar.period(unit, future[i]!)}`;
        if (this.beginners.has(key)) continue;
        this.beginners.set(key, i);
        this.raise(this.futureEnds, i, calendar.later(future[i]!, unit, long[unit]));
      }
    }
  }

  private get longTerm(): LongTerm | undefined {
    return this.rule.keep.by === 'hand' ? undefined : this.rule.keep.longTerm;
  }

  private raise(ends: Float64Array, i: number, end: number): void {
    if (end > ends[i]!) ends[i] = end;
  }

  /** The ends without long-term points; of those whose end depends on ones that are not among them, Infinity. */
  private plainEnds(moments: ArrayLike<number>): Float64Array {
    const { keep, lockDays } = this.rule;
    const ends = new Float64Array(moments.length);
    for (let i = 0; i < moments.length; i++) {
      const at = moments[i]!;
      const plain = keep.by === 'hand' ? Infinity : keep.by === 'days' ? at + keep.days * day : (moments[i + keep.points] ?? Infinity);
      ends[i] = Math.max(plain, moments[i + 1] ?? Infinity, at + lockDays * day);
    }
    return ends;
  }

  /**
   * Writes the row that begins with `existing` (ms, oldest first) and goes on with the points to come, and its ends, into arrays that are large enough. Returns how many points it has.
   */
  of(existing: readonly number[], moments: Float64Array, ends: Float64Array): number {
    const { keep, lockDays } = this.rule;
    const old = existing.length;
    const n = old + this.future.length;
    moments.set(existing);
    moments.set(this.future, old);
    ends.set(this.futureEnds, old);
    for (let i = 0; i < old; i++) {
      const at = moments[i]!;
      const nth = keep.by === 'points' ? i + keep.points : i;
      const plain = keep.by === 'hand' ? Infinity : keep.by === 'days' ? at + keep.days * day : nth < n ? moments[nth]! : Infinity;
      ends[i] = Math.max(plain, i + 1 < n ? moments[i + 1]! : Infinity, at + lockDays * day);
    }
    if (this.longTerm) this.longTermOf(existing, this.longTerm, moments, ends);
    return n;
  }

  private longTermOf(existing: readonly number[], long: LongTerm, moments: Float64Array, ends: Float64Array): void {
    const displaced = new Set<number>();
    for (const unit of longTermUnits) {
      if (long[unit] <= 0) continue;
      let last: number | undefined;
      for (let i = 0; i < existing.length; i++) {
        const period = this.calendar.period(unit, existing[i]!);
        if (period === last) continue;
        last = period;
        this.raise(ends, i, this.calendar.later(existing[i]!, unit, long[unit]));
      }
      const beginner = this.beginners.get(`${unit} ${last}`);
      if (beginner !== undefined) displaced.add(beginner);
    }
    // what is to come begins no period that an existing point has begun
    for (const i of displaced) {
      const at = this.future[i]!;
      const at0 = existing.length + i;
      ends[at0] = this.plainEnds(moments.subarray(at0, Math.min(at0 + this.plainReach, existing.length + this.future.length)))[0]!;
      for (const unit of longTermUnits)
        if (long[unit] > 0 && this.beginners.get(`${unit} ${this.calendar.period(unit, at)}`) === i && !this.begun(existing, unit, at))
          this.raise(ends, at0, this.calendar.later(at, unit, long[unit]));
    }
  }

  /** How many points have to be seen to tell the plain end of one. */
  private get plainReach(): number {
    return this.rule.keep.by === 'points' ? this.rule.keep.points + 1 : 2;
  }

  private begun(existing: readonly number[], unit: (typeof longTermUnits)[number], at: number): boolean {
    const newest = existing.at(-1);
    return newest !== undefined && this.calendar.period(unit, newest) === this.calendar.period(unit, at);
  }
}

/** Midnights of a zone from the day of `from` on, `count` of them, in ms. Where a day begins later, its first instant. */
export function midnights(from: number, count: number, zone: string): number[] {
  const offset = (at: number) => zoneOf(zone).offset(at) * 60_000;
  const first = Math.floor((from + offset(from)) / day);
  return Array.from({ length: count }, (_, i) => {
    const local = (first + i) * day;
    const guess = local - offset(local);
    return local - offset(guess);
  });
}
