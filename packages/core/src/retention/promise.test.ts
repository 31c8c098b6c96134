import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { promisedEnds, type PromisedPoint } from './promise';
import { decideRetention, type Keep } from './retention';

const day = 86_400_000;
const nightly = (from: number) => (count: number) => Array.from({ length: count }, (_, i) => from + (i + 1) * day);
const keeps: fc.Arbitrary<Keep> = fc.oneof(
  fc.integer({ min: 1, max: 20 }).map((days): Keep => ({ by: 'days', days })),
  fc.integer({ min: 1, max: 20 }).map((count): Keep => ({ by: 'points', points: count })),
  fc.constant<Keep>({ by: 'days', days: 7, longTerm: { weeks: 4, months: 3, years: 1, day: 1 } }),
  fc.constant<Keep>({ by: 'hand' }),
);

describe('what is promised to points', () => {
  it('is what retention keeps while runs come as they are planned', () => {
    fc.assert(
      fc.property(keeps, fc.integer({ min: 1, max: 30 }), fc.integer({ min: 1, max: 40 }), (keep, taken, later) => {
        const first = 20_000 * day;
        const moments = Array.from({ length: taken }, (_, i) => first + i * day);
        const points = moments.map((moment): PromisedPoint => ({ moment, extra: false }));
        const now = moments.at(-1)!;
        const ends = promisedEnds(points, keep, 'UTC', nightly(now));
        const then = now + later * day;
        const all = Array.from({ length: taken + later }, (_, i) => ({
          id: String(i),
          moment: first + i * day,
          held: false,
          suspect: false,
        }));
        const decisions = new Map(decideRetention(all, keep, then, false).map((d) => [d.id, d.expires]));
        ends.forEach((end, i) => {
          expect(decisions.get(String(i)), `${i} of ${taken}, ${later} days later`).toBe(end <= then);
        });
      }),
    );
  });

  it('is a number of scheduled points, whatever is taken besides', () => {
    const points = [0, 1, 2, 3].map((n): PromisedPoint => ({ moment: n * day, extra: n === 1 || n === 2 }));
    expect(promisedEnds(points, { by: 'points', points: 2 }, 'UTC', nightly(3 * day))).toEqual([4 * day, 0, 0, 5 * day]);
    expect(promisedEnds(points, { by: 'points', points: 2 }, 'UTC', () => [])).toEqual([0, 0, 0, 0]);
    expect(promisedEnds(points, { by: 'days', days: 3 }, 'UTC', nightly(0))).toEqual([3, 4, 5, 6].map((n) => n * day));
    expect(promisedEnds(points, { by: 'hand' }, 'UTC', nightly(0))).toEqual([Infinity, Infinity, Infinity, Infinity]);
  });
});
