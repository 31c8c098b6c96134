import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { drillRota, drillUrgency, type DrillCandidate } from './rota';

const dayMs = 86_400_000;
const now = 1000 * dayMs;
const ago = (days: number, passed = true) => ({ at: now - days * dayMs, passed });
const one = (id: number, more: Partial<DrillCandidate> = {}): DrillCandidate => ({ id, weight: 1, last: ago(10), changed: 0, ...more });

const Candidate = fc.record({
  weight: fc.integer({ min: 0, max: 3 }),
  last: fc.option(fc.record({ at: fc.integer({ min: 0, max: now }), passed: fc.boolean() }), { nil: null }),
  changed: fc.double({ min: 0, max: 3, noNaN: true }),
});

describe('the rota of drills', () => {
  it('takes what was never drilled first, then what is longest ago', () => {
    expect(drillRota([one(1), one(2, { last: null }), one(3, { last: ago(40) })], now)).toEqual([2, 3, 1]);
  });

  it('takes sooner what matters more, changed more, or failed', () => {
    expect(drillRota([one(1), one(2, { weight: 3 })], now)).toEqual([2, 1]);
    expect(drillRota([one(1), one(2, { changed: 0.4 })], now)).toEqual([2, 1]);
    expect(drillRota([one(1), one(2, { last: ago(3, false) })], now)).toEqual([2, 1]);
  });

  it('leaves out what is of no weight', () => {
    expect(drillRota([one(1, { weight: 0, last: null }), one(2)], now)).toEqual([2]);
  });

  it('is the same whatever order they come in', () => {
    fc.assert(
      fc.property(fc.array(Candidate, { maxLength: 20 }), (all) => {
        const candidates = all.map((c, id) => ({ ...c, id }));
        expect(drillRota([...candidates].reverse(), now)).toEqual(drillRota(candidates, now));
      }),
    );
  });

  it('comes to every workload in time: urgency grows without end', () => {
    fc.assert(
      fc.property(Candidate, fc.integer({ min: 1, max: 1000 }), (candidate, days) => {
        fc.pre(candidate.weight > 0 && candidate.last !== null);
        const later = drillUrgency({ ...candidate, id: 1 }, now + days * dayMs);
        expect(later).toBeGreaterThan(drillUrgency({ ...candidate, id: 1 }, now));
      }),
    );
  });
});
