import { longTermEnds } from './long-term';
import type { Keep } from './retention';

const dayMs = 86_400_000;

/** A point as far as a promise to it goes. */
export interface PromisedPoint {
  /** Instant, ms. */
  readonly moment: number;
  /** Taken besides the schedule. */
  readonly extra: boolean;
}

/**
 * Until when a rule promises to keep each of its points (oldest first), in ms: Infinity where only a person lets go, 0 where it promises no time. A rule by points promises that as many scheduled points come before
 * one goes; what is taken besides the schedule neither counts for that nor is promised a time. That the newest sound point stays is no promise of a rule but holds always.
 * @param nextRuns the instants of the next so many scheduled runs
 */
export function promisedEnds(
  points: readonly PromisedPoint[],
  keep: Keep,
  zone: string,
  nextRuns: (count: number) => readonly number[],
): number[] {
  if (keep.by === 'hand') return points.map(() => Infinity);
  const scheduled = points.filter((p) => !p.extra).map((p) => p.moment);
  const long = keep.longTerm ? longTermEnds(scheduled, keep.longTerm, zone) : undefined;
  const row = keep.by === 'points' ? [...scheduled, ...nextRuns(keep.points)] : [];
  let rank = 0;
  return points.map(({ moment, extra }) => {
    const plain = keep.by === 'days' ? moment + keep.days * dayMs : extra ? 0 : (row[rank + keep.points] ?? 0);
    if (extra) return plain;
    rank++;
    return Math.max(plain, long?.get(moment)?.until ?? 0);
  });
}
