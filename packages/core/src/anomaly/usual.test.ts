import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { usualOf, type UsualSample } from './usual';

const day = 86_400_000;
/** A Monday. */
const start = Date.UTC(2026, 7, 31, 22);
const nights = (values: readonly number[]): UsualSample[] => values.map((value, i) => ({ moment: start + i * day, value }));

describe('what is usual', () => {
  it('is nothing where nothing is known', () => {
    expect(usualOf([], start)).toEqual({ points: 0, middle: 0, mean: 0, spread: 0, high: 0, secondHighest: 0, seasonHigh: 0 });
  });

  it('is not moved by a single night', () => {
    const quiet = Array.from({ length: 30 }, (_, i) => 10 + (i % 3));
    const usual = usualOf(nights(quiet), start + 30 * day);
    const once = usualOf(nights([...quiet.slice(0, 20), 5000, ...quiet.slice(21)]), start + 30 * day);
    expect(once.middle).toBe(usual.middle);
    expect(once.secondHighest).toBe(usual.secondHighest);
    expect(once.spread).toBeLessThan(3);
  });

  it('knows what the same day of the week, and the turn of a month, are like', () => {
    const sundays = Array.from({ length: 28 }, (_, i) => (i % 7 === 6 ? 400 : 3));
    expect(usualOf(nights(sundays), start + 34 * day).seasonHigh).toBe(400);
    expect(usualOf(nights(sundays), start + 36 * day).seasonHigh).toBeLessThan(400);
    const monthly = Array.from({ length: 60 }, (_, i) => (new Date(start + i * day).getUTCDate() === 30 ? 900 : 3));
    expect(usualOf(nights(monthly), Date.UTC(2026, 9, 31, 22)).seasonHigh).toBe(900);
    expect(usualOf(nights(monthly), Date.UTC(2026, 10, 14, 22)).seasonHigh).toBe(3);
  });

  it('lies within what was seen, in its order', () => {
    fc.assert(
      fc.property(fc.array(fc.double({ min: 0, max: 1e6, noNaN: true }), { minLength: 1, maxLength: 80 }), fc.nat(90), (values, at) => {
        const usual = usualOf(nights(values), start + at * day);
        const [low, high] = [Math.min(...values), Math.max(...values)];
        for (const v of [usual.middle, usual.high, usual.secondHighest]) {
          expect(v).toBeGreaterThanOrEqual(low);
          expect(v).toBeLessThanOrEqual(high);
        }
        expect(usual.middle).toBeLessThanOrEqual(usual.high);
        expect(usual.seasonHigh).toBeLessThanOrEqual(high);
        expect(usual.points).toBe(values.length);
      }),
    );
  });
});
