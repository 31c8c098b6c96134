import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { keptPrice, restorePrice, usePrice } from './bucket-cost';

const prices = { currency: 'EUR', perGbMonth: 0.02, perGbRead: 0.05, perThousandLists: 0.005, perThousandReads: 0.0004 };
const use = fc.record({ lists: fc.nat(1e6), reads: fc.nat(1e6), facts: fc.nat(1e6), bytes: fc.nat(2 ** 40) });

describe('prices of an object storage', () => {
  it('follow the table', () => {
    expect(usePrice({ lists: 2000, reads: 500, facts: 500, bytes: 2e9 }, prices)).toBeCloseTo(0.01 + 0.0004 + 0.1, 9);
    expect(keptPrice(500e9, prices)).toBeCloseTo(10, 9);
    expect(restorePrice(10_000, prices)).toBeCloseTo(0.054, 9);
  });

  it('of two stretches of time together are those of each added', () => {
    fc.assert(
      fc.property(use, use, (a, b) => {
        const both = { lists: a.lists + b.lists, reads: a.reads + b.reads, facts: a.facts + b.facts, bytes: a.bytes + b.bytes };
        expect(usePrice(both, prices)).toBeCloseTo(usePrice(a, prices) + usePrice(b, prices), 6);
      }),
    );
  });
});
