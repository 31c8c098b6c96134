import { Calendar } from '../retention/long-term';
import { nextRuns, runsPerDay, type Timetable } from '../time/schedule';
import { Ends, midnights, type Ending } from './timeline';

const day = 86_400_000;

/** What is measured of a workload on one target. */
export interface MeasuredWorkload {
  /** Moments of its sound points there, ms, oldest first, for each of the rules that decide over them. */
  readonly moments: readonly (readonly number[])[];
  /** Bytes its newest point takes by itself on the target. */
  readonly stored: number;
  /** Bytes that become new on the target in a day. */
  readonly newPerDay: number;
  /** Bytes by which `stored` grows in a day. */
  readonly growthPerDay: number;
}

export interface SimulatedRule extends Ending, Timetable {
  /** Times at which another rule takes the point that it would take. */
  readonly yieldsTo?: readonly Timetable[];
}

/** The course of a policy, a value for each day. */
export interface Course {
  /** Midnights, ms. */
  readonly days: Float64Array;
  /** Points that stand then, over all workloads. */
  readonly points: Float64Array;
  /** Bytes they take. */
  readonly bytes: Float64Array;
  /** Days back to the oldest of them. */
  readonly reach: Float64Array;
  /** Points standing now that go at once. */
  readonly goAtOnce: number;
}

/**
 * Lives the rules of a policy for some days from `now` (ms) on: which points stand on each day and what they take. There is at least one rule, and days are those of the first one's zone.
 * Each rule lets its own points go; all of them stand in one row.
 *
 * Room: the newest point takes `stored`. Of a point whose next newer one is d days younger, what was replaced in between is kept for it alone: stored · (1 − e^(−r·d)) with the share
 * r = newPerDay / stored replaced in a day, as data replaced once may be replaced again. So a thinner row of points takes less, and a point more never takes less.
 */
export function simulate(workloads: readonly MeasuredWorkload[], rules: readonly SimulatedRule[], now: number, days: number): Course {
  const axis = Float64Array.from(midnights(now + day, days, rules[0]?.zone ?? 'UTC'));
  const horizon = axis[axis.length - 1] ?? now;
  const fates = rules.map((rule) => {
    const taken = new Set((rule.yieldsTo ?? []).flatMap((other) => runsAhead(other, now, days)));
    const future = runsAhead(rule, now, days).filter((at) => at <= horizon && !taken.has(at));
    const calendar = new Calendar(rule.zone, rule.keep.by === 'hand' ? 1 : (rule.keep.longTerm?.day ?? 1));
    return new Ends(rule, future, calendar);
  });
  const mostExisting = workloads.reduce((most, w) => Math.max(most, sum(w.moments.map((m) => m.length))), 0);
  const life = new Life(axis, new Fates(fates, mostExisting), now);
  for (const workload of workloads) life.live(workload);
  return life.course();
}

function runsAhead(timetable: Timetable, now: number, days: number): number[] {
  return nextRuns(timetable, now, Math.ceil(runsPerDay(timetable.schedule) * (days + 2)));
}

const sum = (numbers: readonly number[]) => numbers.reduce((a, b) => a + b, 0);

/** The rows of points of several rules as one, in the order of their moments. Its memory is used again for each workload. */
class Fates {
  readonly moments: Float64Array;
  readonly ends: Float64Array;
  private readonly rowMoments: Float64Array;
  private readonly rowEnds: Float64Array;

  constructor(
    private readonly rules: readonly Ends[],
    mostExisting: number,
  ) {
    const size = mostExisting + sum(rules.map((r) => r.future.length));
    [this.moments, this.ends] = [new Float64Array(size), new Float64Array(size)];
    const rows = rules.length > 1 ? size : 0;
    [this.rowMoments, this.rowEnds] = [new Float64Array(rows), new Float64Array(rows)];
  }

  /** Writes the moments and ends of all points of a workload. Returns how many there are. */
  of(existing: readonly (readonly number[])[]): number {
    const { rules, moments, ends, rowMoments, rowEnds } = this;
    if (rules.length === 1) return rules[0]!.of(existing[0] ?? [], moments, ends);
    const at: number[] = [];
    const to: number[] = [];
    let size = 0;
    rules.forEach((rule, i) => {
      at.push(size);
      size += rule.of(existing[i] ?? [], rowMoments.subarray(size), rowEnds.subarray(size));
      to.push(size);
    });
    for (let i = 0; i < size; i++) {
      let first = -1;
      for (let r = 0; r < rules.length; r++) if (at[r]! < to[r]! && (first < 0 || rowMoments[at[r]!]! < rowMoments[at[first]!]!)) first = r;
      moments[i] = rowMoments[at[first]!]!;
      ends[i] = rowEnds[at[first]!++]!;
    }
    return size;
  }
}

/** Lives one workload after the other and adds them up; its memory is used again for each. */
class Life {
  private readonly count: Float64Array;
  private readonly bytes: Float64Array;
  private readonly reach: Float64Array;
  private goAtOnce = 0;
  private readonly births: Int32Array;
  private readonly deaths: Int32Array;
  private readonly older: Int32Array;
  private readonly newer: Int32Array;
  /** Points by the day they go: where each day's begin, and the points. */
  private readonly deathStart: Int32Array;
  private readonly dying: Int32Array;

  constructor(
    private readonly axis: Float64Array,
    private readonly fates: Fates,
    private readonly now: number,
  ) {
    const size = fates.moments.length;
    [this.count, this.bytes, this.reach] = [new Float64Array(axis.length), new Float64Array(axis.length), new Float64Array(axis.length)];
    [this.births, this.deaths] = [new Int32Array(size), new Int32Array(size)];
    [this.older, this.newer, this.dying] = [new Int32Array(size), new Int32Array(size), new Int32Array(size)];
    this.deathStart = new Int32Array(axis.length + 2);
  }

  course(): Course {
    return { days: this.axis, points: this.count, bytes: this.bytes, reach: this.reach, goAtOnce: this.goAtOnce };
  }

  private readonly shares = new Shares();

  live(w: MeasuredWorkload): void {
    const { axis, now, births, deaths, older, newer, dying, deathStart, bytes, count, reach } = this;
    const { moments, ends } = this.fates;
    const n = this.fates.of(w.moments);
    const last = axis.length;
    for (let i = 0; i < n && moments[i]! <= now; i++) if (ends[i]! <= now) this.goAtOnce++;
    deathStart.fill(0);
    for (let i = 0; i < n; i++) {
      births[i] = firstFrom(axis, moments[i]!);
      deaths[i] = ends[i] === Infinity ? last : firstFrom(axis, ends[i]!);
      deathStart[deaths[i]! + 1]!++;
    }
    for (let d = 0; d <= last; d++) deathStart[d + 1]! += deathStart[d]!;
    for (let i = n - 1; i >= 0; i--) dying[--deathStart[deaths[i]! + 1]!] = i;
    // deathStart[d + 1] is now where the points that go on day d begin
    const gaps = this.shares;
    gaps.begin(w.stored > 0 ? w.newPerDay / w.stored : 0);
    const growth = w.growthPerDay / day;
    let standing = 0;
    let oldest = -1;
    let newest = -1;
    let next = 0;
    let shares = 0;
    for (let d = 0; d < last; d++) {
      for (; next < n && births[next]! <= d; next++) {
        if (deaths[next]! <= births[next]!) continue;
        older[next] = newest;
        newer[next] = -1;
        if (newest >= 0) {
          newer[newest] = next;
          shares += gaps.of(moments[next]! - moments[newest]!);
        } else oldest = next;
        newest = next;
        standing++;
      }
      for (let k = deathStart[d + 1]!; k < deathStart[d + 2]!; k++) {
        const i = dying[k]!;
        if (deaths[i]! <= births[i]!) continue;
        const before = older[i]!;
        const after = newer[i]!;
        if (before >= 0) {
          newer[before] = after;
          shares -= gaps.of(moments[i]! - moments[before]!);
        } else oldest = after;
        if (after >= 0) {
          older[after] = before;
          shares -= gaps.of(moments[after]! - moments[i]!);
        } else newest = before;
        if (before >= 0 && after >= 0) shares += gaps.of(moments[after]! - moments[before]!);
        standing--;
      }
      if (standing === 0) {
        shares = 0;
        continue;
      }
      const size = Math.max(0, w.stored + growth * (axis[d]! - now));
      bytes[d]! += size * (1 + Math.max(0, shares));
      count[d]! += standing;
      reach[d] = Math.max(reach[d]!, (axis[d]! - moments[oldest]!) / day);
    }
  }
}

/** Shares of data replaced in a gap; most gaps are alike, so they are remembered. */
class Shares {
  private readonly gaps = new Float64Array(256);
  private readonly values = new Float64Array(256);
  private rate = 0;

  /** Begins anew for data of which `rate` is replaced in a day. */
  begin(rate: number): void {
    this.rate = rate;
    this.gaps.fill(-1);
  }

  /** The share replaced in so many ms. */
  of(gap: number): number {
    const place = (gap / 3_600_000) & 255;
    if (this.gaps[place] !== gap) {
      this.gaps[place] = gap;
      this.values[place] = -Math.expm1((-this.rate * gap) / day);
    }
    return this.values[place]!;
  }
}

/** First of the midnights that is not before `at`; their number when there is none. They are about a day apart. */
function firstFrom(midnights: Float64Array, at: number): number {
  const last = midnights.length;
  let i = Math.min(last, Math.max(0, Math.floor((at - midnights[0]!) / day)));
  while (i > 0 && midnights[i - 1]! >= at) i--;
  while (i < last && midnights[i]! < at) i++;
  return i;
}

/** First day on which a course takes more than `capacity` bytes, ms; undefined when it never does. */
export function fullOn(course: Pick<Course, 'days' | 'bytes'>, capacity: number): number | undefined {
  const at = course.bytes.findIndex((b) => b > capacity);
  return at < 0 ? undefined : course.days[at];
}
