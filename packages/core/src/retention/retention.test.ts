import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { decideRetention, settledPoints, type Keep, type KeptPoint } from './retention';

const day = 86_400_000;
const now = 1000 * day;
const keeps: fc.Arbitrary<Keep> = fc.oneof(
  fc.integer({ min: 1, max: 60 }).map((days): Keep => ({ by: 'days', days })),
  fc.integer({ min: 1, max: 60 }).map((points): Keep => ({ by: 'points', points })),
  fc.constant<Keep>({ by: 'hand' }),
);
const points: fc.Arbitrary<KeptPoint[]> = fc
  .uniqueArray(fc.record({ age: fc.integer({ min: 0, max: 100 * 24 }), held: fc.boolean(), suspect: fc.boolean() }), {
    selector: (p) => p.age,
    maxLength: 60,
  })
  .map((list) =>
    list.map((p, i) => ({
      id: String(i),
      moment: now - p.age * 3_600_000,
      held: p.held && i % 5 === 0,
      suspect: p.suspect && i % 7 === 0,
    })),
  );
const going = (list: readonly KeptPoint[], keep: Keep, frozen = false) =>
  new Set(
    decideRetention(list, keep, now, frozen)
      .filter((d) => d.expires)
      .map((d) => d.id),
  );

describe('retention', () => {
  it('never lets go of the newest sound point, a held one or a suspect one', () => {
    fc.assert(
      fc.property(points, keeps, (list, keep) => {
        const gone = going(list, keep);
        const newest = list.filter((p) => !p.suspect).sort((a, b) => b.moment - a.moment)[0];
        if (newest) expect(gone.has(newest.id)).toBe(false);
        for (const p of list) if (p.held || p.suspect) expect(gone.has(p.id)).toBe(false);
      }),
    );
  });

  it('lets nothing go while it is frozen', () => {
    fc.assert(
      fc.property(points, keeps, (list, keep) => {
        expect(going(list, keep, true).size).toBe(0);
      }),
    );
  });

  it('keeps a superset when it keeps for longer', () => {
    fc.assert(
      fc.property(
        points,
        fc.integer({ min: 1, max: 50 }),
        fc.integer({ min: 0, max: 50 }),
        fc.constantFrom('days', 'points'),
        (list, n, more, by) => {
          const keep = (x: number): Keep => (by === 'days' ? { by, days: x } : { by: 'points', points: x });
          const short = going(list, keep(n));
          for (const id of going(list, keep(n + more))) expect(short.has(id)).toBe(true);
        },
      ),
    );
  });

  it('keeps exactly the number of sound points asked for, where there are that many', () => {
    fc.assert(
      fc.property(points, fc.integer({ min: 1, max: 50 }), (list, n) => {
        const gone = going(list, { by: 'points', points: n });
        const counted = list.filter((p) => !p.suspect);
        const kept = counted.filter((p) => !gone.has(p.id));
        const heldBeyond = counted
          .sort((a, b) => b.moment - a.moment)
          .slice(n)
          .filter((p) => p.held).length;
        expect(kept.length).toBe(Math.min(n, counted.length) + heldBeyond);
      }),
    );
  });

  it('does not depend on the order the points are given in', () => {
    fc.assert(
      fc.property(points, keeps, (list, keep) => {
        expect(going([...list].reverse(), keep)).toEqual(going(list, keep));
      }),
    );
  });

  it('lets a point with a keep of its own follow that, and does not count it', () => {
    const list: KeptPoint[] = [0, 1, 2, 3].map((age) => ({
      id: String(age),
      moment: now - age * day,
      held: false,
      suspect: false,
      ...(age === 1 && { keep: { by: 'hand' } as const }),
    }));
    expect(going(list, { by: 'points', points: 2 })).toEqual(new Set(['3']));
  });

  it('says until when and by which rule', () => {
    const [, second] = decideRetention(
      [0, 1].map((age) => ({ id: String(age), moment: now - age * day, held: false, suspect: false })),
      { by: 'days', days: 14 },
      now,
      false,
    );
    expect(second).toEqual({ id: '1', expires: false, until: now + 13 * day, why: 'kept for 14 days' });
  });
});

describe('points when settled', () => {
  it.each([
    [{ every: 'day', at: '22:00' }, { by: 'days', days: 14 }, 14, 14],
    [{ every: 'hours', hours: 4, at: '00:00' }, { by: 'days', days: 14 }, 84, 14],
    [{ every: 'week', days: [7], at: '03:00' }, { by: 'points', points: 8 }, 8, 56],
    [{ every: 'week', days: [3, 7], at: '03:00' }, { by: 'days', days: 28 }, 8, 28],
  ] as const)('%j kept %j', (schedule, keep, count, furthest) => {
    expect(settledPoints(schedule, keep)).toMatchObject({ points: count, furthestDays: furthest });
  });

  it('shows the multiplication', () => {
    expect(settledPoints({ every: 'hours', hours: 4, at: '00:00' }, { by: 'days', days: 14 }).arithmetic).toBe(
      '14 days × 6 runs a day = 84 points',
    );
  });
});
