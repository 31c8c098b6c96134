import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { RateMeter } from './rate-meter';

describe('the rate of work', () => {
  it('is the mean of all at the first sample and of the last seconds later', () => {
    const meter = new RateMeter(1000);
    expect(meter.rate(2000, 3000)).toBe(1000);
    expect(meter.rate(12_000, 4000)).toBe(10_000);
    for (let s = 5; s <= 30; s++) meter.rate(12_000 + (s - 4) * 500, s * 1000);
    expect(meter.rate(12_000 + 27 * 500, 31_000)).toBeCloseTo(500, 6);
  });

  it('is never negative nor infinite, also when the work begins again or the clock stands', () => {
    fc.assert(
      fc.property(fc.array(fc.tuple(fc.nat(1e9), fc.nat(3000)), { minLength: 1 }), (steps) => {
        const meter = new RateMeter(0);
        let at = 0;
        for (const [bytes, gap] of steps) {
          const rate = meter.rate(bytes, (at += gap));
          expect(Number.isFinite(rate) && rate >= 0).toBe(true);
        }
      }),
    );
  });
});
