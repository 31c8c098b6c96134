import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { strikeOut, type Struck, type StruckTarget, type StruckWorkload } from './strike-out';

const targets: StruckTarget[] = [
  { id: 'quay', site: 'harbour', envelope: false, rate: 100 },
  { id: 'vault', site: 'rock', envelope: true, rate: 10 },
];
const one = (id: number, more: Partial<StruckWorkload> = {}): StruckWorkload => ({
  id,
  system: 'platform',
  site: 'harbour',
  bytes: 1000,
  urgency: 1,
  measuredMs: null,
  stands: [{ targets: ['quay', 'vault'], newest: 50, points: 3 }],
  ...more,
});
const none = new Set<string>();
const strike = (more: Partial<Struck>): Struck => ({ sites: none, systems: none, targets: none, keys: none, accounts: none, ...more });
const out = (workloads: StruckWorkload[], more: Partial<Struck>, atOnce = 1) => strikeOut(workloads, targets, strike(more), atOnce);

describe('strike it out', () => {
  it('loses what stands on one target only, and leaves the rest poorer or as it was', () => {
    const stands = [
      { targets: ['quay'], newest: 60, points: 5 },
      { targets: ['quay', 'vault'], newest: 40, points: 2 },
    ];
    const told = out([one(1, { stands }), one(2, { stands: stands.slice(0, 1) }), one(3, { stands: stands.slice(1) })], {
      targets: new Set(['quay']),
    });
    expect(told.map(({ fate, pointsLeft, pointsLost, moment }) => [fate, pointsLeft, pointsLost, moment])).toEqual([
      ['poorer', 2, 5, 40],
      ['unprotected', 0, 5, null],
      ['untouched', 2, 0, 40],
    ]);
  });

  it('brings back what lived at a lost site, from the target that is left, in the order of urgency', () => {
    const told = out([one(1), one(2, { urgency: 5, measuredMs: 7000 }), one(3, { site: 'rock' })], { sites: new Set(['harbour']) });
    expect(told).toMatchObject([
      { fate: 'comesBack', from: 'vault', takesMs: 100_000, backMs: 107_000 },
      { fate: 'comesBack', from: 'vault', takesMs: 7000, backMs: 7000 },
      { fate: 'untouched', takesMs: null, backMs: null },
    ]);
    expect(out([one(1), one(2)], { sites: new Set(['harbour']) }, 2).map((o) => o.backMs)).toEqual([100_000, 100_000]);
  });

  it('reads by an envelope only where nothing else is left', () => {
    const keys = new Set(['quay', 'vault']);
    expect(out([one(1)], { keys, systems: new Set(['platform']) })).toMatchObject([{ fate: 'comesBack', from: 'vault', byEnvelope: true }]);
    expect(out([one(1)], { keys: new Set(['vault']), systems: new Set(['platform']) })).toMatchObject([
      { from: 'quay', byEnvelope: false },
    ]);
    const onQuay = one(1, { stands: [{ targets: ['quay'], newest: 1, points: 1 }] });
    expect(out([onQuay], { keys, systems: new Set(['platform']) })).toMatchObject([{ fate: 'lost', moment: null }]);
  });

  it('says what nobody can get at any more', () => {
    expect(out([one(1)], { accounts: new Set(['platform']) })).toMatchObject([{ fate: 'untouched', shutOut: true }]);
  });

  it('does not know when those are back that come behind one that was never measured', () => {
    const unmeasured = [{ id: 'quay', site: 'rock', envelope: false, rate: null }];
    const told = strikeOut(
      [one(1, { measuredMs: 5, urgency: 3 }), one(2, { urgency: 2 }), one(3, { measuredMs: 5 })],
      unmeasured,
      strike({ systems: new Set(['platform']) }),
      1,
    );
    expect(told.map((o) => o.backMs)).toEqual([5, null, null]);
  });

  const names = ['a', 'b', 'c', 'd'];
  const Subset = fc.subarray(names).map((s) => new Set(s));
  const Workload = fc.record({
    system: fc.constantFrom(...names),
    site: fc.constantFrom(...names),
    bytes: fc.nat(1e9),
    urgency: fc.nat(5),
    measuredMs: fc.option(fc.nat(1e6), { nil: null }),
    stands: fc.array(
      fc.record({ targets: fc.subarray(names, { minLength: 1 }), newest: fc.nat(1000), points: fc.integer({ min: 1, max: 9 }) }),
      { maxLength: 4 },
    ),
  });
  const Any = fc.record({ sites: Subset, systems: Subset, targets: Subset, keys: Subset, accounts: Subset });
  const places: StruckTarget[] = names.map((id, i) => ({ id, site: names[(i + 1) % 4]!, envelope: i % 2 === 0, rate: i ? i * 1e5 : null }));
  const worth = { untouched: 0, poorer: 1, unprotected: 2, comesBack: 3, lost: 4 };

  it('counts every point once, and never gains by more that is struck', () => {
    fc.assert(
      fc.property(fc.array(Workload, { maxLength: 6 }), Any, Any, (all, first, second) => {
        const workloads = all.map((w, id) => ({ ...w, id }));
        const both = Object.fromEntries(
          Object.keys(first).map((k) => [k, new Set([...first[k as keyof Struck], ...second[k as keyof Struck]])]),
        ) as unknown as Struck;
        const [less, more] = [strikeOut(workloads, places, first, 2), strikeOut(workloads, places, both, 2)];
        for (const [i, w] of workloads.entries()) {
          const points = w.stands.reduce((sum, s) => sum + s.points, 0);
          expect(less[i]!.pointsLeft + less[i]!.pointsLost).toBe(points);
          expect(more[i]!.pointsLeft).toBeLessThanOrEqual(less[i]!.pointsLeft);
          expect(worth[more[i]!.fate]).toBeGreaterThanOrEqual(worth[less[i]!.fate]);
          expect(more[i]!.moment ?? -1).toBeLessThanOrEqual(less[i]!.moment ?? -1);
        }
      }),
    );
  });

  it('takes as long as the longest of what runs side by side, and no longer than one after the other', () => {
    fc.assert(
      fc.property(fc.array(fc.nat(1e6), { minLength: 1, maxLength: 12 }), fc.integer({ min: 1, max: 5 }), (times, atOnce) => {
        const workloads = times.map((measuredMs, id) => one(id, { measuredMs }));
        const ends = out(workloads, { systems: new Set(['platform']) }, atOnce).map((o) => o.backMs!);
        const sum = times.reduce((a, b) => a + b, 0);
        expect(Math.max(...ends)).toBeLessThanOrEqual(sum);
        expect(Math.max(...ends)).toBeGreaterThanOrEqual(Math.max(...times, sum / atOnce) - 1e-6);
      }),
    );
  });
});
