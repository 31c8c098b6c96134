import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { objectiveRecord } from './objective-record';

const hour = 3_600_000;

describe('the record of an objective', () => {
  it('counts the time the newest point was too old, and how often', () => {
    const at = (h: number) => h * hour;
    expect(objectiveRecord([at(0), at(30), at(54)], 0, 24 * hour, 0, at(60))).toEqual({
      within: 1 - 6 / 60,
      breaches: 1,
      oldestMs: 30 * hour,
    });
    expect(objectiveRecord([at(-5)], at(-100), 24 * hour, 0, at(10))).toEqual({ within: 1, breaches: 0, oldestMs: 15 * hour });
    expect(objectiveRecord([], at(0), 4 * hour, 0, at(8))).toEqual({ within: 0.5, breaches: 1, oldestMs: 8 * hour });
    expect(objectiveRecord([], at(20), 4 * hour, 0, at(8))).toEqual({ within: 1, breaches: 0, oldestMs: 0 });
  });

  const moments = fc.array(fc.integer({ min: -200, max: 400 }), { maxLength: 30 });
  const objective = fc.integer({ min: 1, max: 60 });

  it('agrees with looking at every moment', () => {
    fc.assert(
      fc.property(moments, objective, fc.integer({ min: -100, max: 100 }), (points, limit, since) => {
        const [from, to] = [0, 200];
        const begin = Math.max(from, since);
        let late = 0;
        // ages are looked at in the middle of every unit, as points stand on whole ones
        for (let t = begin; t < to; t++) {
          const newest = Math.max(since, ...points.filter((m) => m >= since && m <= t));
          if (t + 0.5 - newest > limit) late++;
        }
        expect(objectiveRecord(points, since, limit, from, to).within).toBeCloseTo(1 - late / (to - begin), 9);
      }),
    );
  });

  it('never becomes worse by one more point', () => {
    fc.assert(
      fc.property(moments, objective, fc.integer({ min: 0, max: 199 }), (points, limit, more) => {
        const before = objectiveRecord(points, -200, limit, 0, 200);
        const after = objectiveRecord([...points, more], -200, limit, 0, 200);
        expect(after.within).toBeGreaterThanOrEqual(before.within - 1e-12);
        expect(after.oldestMs).toBeLessThanOrEqual(before.oldestMs);
      }),
    );
  });
});
