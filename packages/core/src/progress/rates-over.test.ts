import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { ratesOver } from './rates-over';

const sum = (values: readonly number[]) => values.reduce((a, b) => a + b, 0);
const series = fc
  .array(fc.record({ ms: fc.integer({ min: 1, max: 5000 }), more: fc.integer({ min: 0, max: 1_000_000 }) }), {
    minLength: 1,
    maxLength: 20,
  })
  .map((steps) => {
    let [at, total] = [0, 0];
    return [{ at, total }, ...steps.map((s) => ({ at: (at += s.ms), total: (total += s.more) }))];
  });

describe('rates over time', () => {
  it('add up what goes on beside each other, evenly between readings', () => {
    const a = [
      { at: 0, total: 0 },
      { at: 2000, total: 2000 },
    ];
    const b = [
      { at: 1000, total: 0 },
      { at: 2000, total: 500 },
    ];
    expect(ratesOver([a, b], 0, 4000, 4)).toEqual([1000, 1500, 0, 0]);
    expect(ratesOver([a], 1000, 3000, 1)).toEqual([500]);
    expect(ratesOver([[{ at: 0, total: 9 }], []], 0, 10, 2)).toEqual([0, 0]);
  });

  it('come to all that was moved', () => {
    fc.assert(
      fc.property(fc.array(series, { minLength: 1, maxLength: 5 }), fc.integer({ min: 1, max: 60 }), (all, slots) => {
        const to = Math.max(...all.map((s) => s.at(-1)!.at));
        const moved = sum(ratesOver(all, 0, to, slots)) * (to / slots / 1000);
        expect(moved).toBeCloseTo(sum(all.map((s) => s.at(-1)!.total)), 3);
      }),
    );
  });

  it('count what was begun anew from there', () => {
    const again = [
      { at: 0, total: 0 },
      { at: 1000, total: 800 },
      { at: 2000, total: 0 },
      { at: 3000, total: 300 },
    ];
    expect(ratesOver([again], 0, 3000, 3)).toEqual([800, 0, 300]);
  });
});
