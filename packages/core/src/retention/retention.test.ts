import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { longTermEnds, type LongTerm } from './long-term';
import { decideByRules, decideRetention, settledPoints, type Keep, type KeptPoint } from './retention';

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

  it('never lets go of a locked point, and says so where the lock is the longer promise', () => {
    fc.assert(
      fc.property(points, keeps, fc.integer({ min: -20, max: 90 }), (list, keep, days) => {
        const lockedUntil = now + days * day;
        const locked = list.map((p, i) => (i % 2 ? { ...p, lockedUntil } : p));
        const free = new Map(decideRetention(list, keep, now, false).map((d) => [d.id, d]));
        for (const d of decideRetention(locked, keep, now, false)) {
          const was = free.get(d.id)!;
          const holds = list.findIndex((p) => p.id === d.id) % 2 === 1 && days > 0;
          if (!holds) expect(d).toEqual(was);
          else expect(d.expires).toBe(false);
          if (holds && was.expires) expect(d).toMatchObject({ until: lockedUntil });
          if (holds && was.until !== undefined) expect(d.until).toBeGreaterThanOrEqual(Math.min(lockedUntil, was.until));
        }
      }),
    );
  });

  it('lets nothing go before it was promised to, and says so where that is the longer promise', () => {
    fc.assert(
      fc.property(points, keeps, fc.option(fc.integer({ min: -20, max: 90 })), (list, keep, days) => {
        const promisedUntil = days === null ? Infinity : now + days * day;
        const promised = list.map((p) => ({ ...p, promisedUntil }));
        const free = new Map(decideRetention(list, keep, now, false).map((d) => [d.id, d]));
        for (const d of decideRetention(promised, keep, now, false)) {
          if (promisedUntil > now) expect(d.expires).toBe(false);
          else expect(d).toEqual(free.get(d.id));
        }
      }),
    );
  });

  it('lets no scheduled point go because of what was taken besides the schedule', () => {
    fc.assert(
      fc.property(points, points, keeps, (list, more, keep) => {
        const extra = more.map((p) => ({ ...p, id: `extra ${p.id}`, moment: p.moment + 1, suspect: false, extra: true }));
        const alone = going(list, keep);
        const newest = list.filter((p) => !p.suspect).sort((a, b) => b.moment - a.moment)[0]?.id;
        const beside = going([...list, ...extra], keep);
        // the newest stays for being the newest, which an extra one is then
        for (const p of list) if (beside.has(p.id)) expect(alone.has(p.id) || p.id === newest).toBe(true);
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

describe('a series of several rules', () => {
  const ruled = fc.record({ keep: keeps, zone: fc.constantFrom('UTC', 'Europe/Oslo'), ended: fc.boolean() });
  const split = (list: readonly KeptPoint[], rules: readonly { keep: Keep; zone: string; ended: boolean }[]) =>
    rules.map((rule, r) => ({ ...rule, points: list.filter((_, i) => i % rules.length === r) }));

  it('decides each point once, lets each rule go by its own points, and never leaves a series without a sound one', () => {
    fc.assert(
      fc.property(points, fc.array(ruled, { minLength: 1, maxLength: 4 }), (list, rules) => {
        const groups = split(list, rules);
        const decided = decideByRules(groups, now, false);
        expect(decided.map((d) => d.id).sort()).toEqual(list.map((p) => p.id).sort());
        const gone = new Set(decided.filter((d) => d.expires).map((d) => d.id));
        for (const g of groups)
          if (!g.ended) expect(new Set(g.points.filter((p) => gone.has(p.id)).map((p) => p.id))).toEqual(going(g.points, g.keep));
        if (list.some((p) => !p.suspect)) expect(list.some((p) => !p.suspect && !gone.has(p.id))).toBe(true);
      }),
    );
  });

  it('lets the points of a rule that has ended be displaced by those of others', () => {
    const list = [0, 1, 2, 3, 4, 5].map((age) => ({ id: String(age), moment: now - age * day, held: false, suspect: false }));
    const keep: Keep = { by: 'points', points: 4 };
    const groups = (ended: boolean) => [
      { points: list.slice(0, 3), keep, zone: 'UTC', ended: false },
      { points: list.slice(3), keep, zone: 'UTC', ended },
    ];
    const left = (ended: boolean) =>
      decideByRules(groups(ended), now, false)
        .filter((d) => !d.expires)
        .map((d) => d.id);
    expect(left(false)).toEqual(['0', '1', '2', '3', '4', '5']);
    expect(left(true)).toEqual(['0', '1', '2', '3']);
  });
});

describe('long-term points', () => {
  const rules: fc.Arbitrary<LongTerm> = fc.record({
    weeks: fc.integer({ min: 0, max: 10 }),
    months: fc.integer({ min: 0, max: 6 }),
    years: fc.integer({ min: 0, max: 2 }),
    day: fc.integer({ min: 1, max: 7 }),
  });
  const zones = fc.constantFrom('UTC', 'Europe/Oslo', 'Pacific/Auckland');
  const gone = (list: readonly KeptPoint[], keep: Keep, zone: string) =>
    new Set(
      decideRetention(list, keep, now, false, zone)
        .filter((d) => d.expires)
        .map((d) => d.id),
    );

  it('only ever keep more than the ordinary retention, and more when a rule is longer', () => {
    fc.assert(
      fc.property(points, keeps, rules, rules, zones, (list, keep, rule, more, zone) => {
        if (keep.by === 'hand') return;
        const plain = gone(list, keep, zone);
        const kept = gone(list, { ...keep, longTerm: rule }, zone);
        const longer = { ...rule, weeks: rule.weeks + more.weeks, months: rule.months + more.months, years: rule.years + more.years };
        for (const id of kept) expect(plain.has(id)).toBe(true);
        for (const id of gone(list, { ...keep, longTerm: longer }, zone)) expect(kept.has(id)).toBe(true);
      }),
    );
  });

  it('are the first sound one of each period, and stay so whatever comes later', () => {
    fc.assert(
      fc.property(points, rules, zones, fc.integer({ min: 0, max: 60 }), (list, rule, zone, later) => {
        const sound = list.filter((p) => !p.suspect).map((p) => p.moment);
        const before = longTermEnds(
          sound.filter((m) => m <= now - later * day),
          rule,
          zone,
        );
        const after = longTermEnds(sound, rule, zone);
        for (const [moment, end] of before) expect(after.get(moment)).toEqual(end);
        if (rule.months) {
          const month = (m: number) => new Intl.DateTimeFormat('en', { timeZone: zone, year: 'numeric', month: 'numeric' }).format(m);
          const monthly = sound.filter((m) => !sound.some((o) => o < m && month(o) === month(m)));
          for (const m of monthly) expect(after.has(m)).toBe(true);
        }
      }),
    );
  });

  it('begin on the chosen day of the zone, and are kept by the calendar', () => {
    const at = (text: string) => Date.parse(text);
    const nights = ['2026-03-28', '2026-03-29', '2026-03-30', '2026-04-01', '2026-04-05'].map((d) => at(`${d}T22:30:00Z`));
    const weekly = longTermEnds(nights, { weeks: 2, months: 0, years: 0, day: 1 }, 'Europe/Oslo');
    // 22:30 UTC is past midnight in Oslo: the nights of Sunday belong to Monday's week
    expect([...weekly.keys()]).toEqual([nights[0], nights[1], nights[4]]);
    expect(new Date(weekly.get(nights[0]!)!.until).toISOString()).toBe('2026-04-11T21:30:00.000Z');
    const yearly = longTermEnds([at('2024-02-29T12:00:00Z')], { weeks: 0, months: 0, years: 1, day: 1 }, 'UTC');
    expect([...yearly.values()]).toEqual([{ until: at('2025-02-28T12:00:00Z'), why: 'the yearly point, kept for 1 year' }]);
  });

  it('say until when and by which rule, the longest that applies', () => {
    const list = [0, 40].map((age) => ({ id: String(age), moment: now - age * day, held: false, suspect: false }));
    const keep: Keep = { by: 'days', days: 14, longTerm: { weeks: 4, months: 12, years: 0, day: 1 } };
    expect(decideRetention(list, keep, now, false)[1]).toMatchObject({ expires: false, why: 'the monthly point, kept for 12 months' });
  });

  it('are counted where the rule has settled, as a life of many years shows', () => {
    const rule: LongTerm = { weeks: 8, months: 12, years: 3, day: 1 };
    const keep: Keep = { by: 'days', days: 14, longTerm: rule };
    let alive: KeptPoint[] = [];
    const start = Date.UTC(2020, 0, 1);
    let at: number;
    for (let i = 0; i < 5 * 365; i++) {
      at = start + i * day;
      alive.push({ id: String(i), moment: at, held: false, suspect: false });
      const left = gone2(alive, keep, at);
      alive = alive.filter((p) => !left.has(p.id));
    }
    const settled = settledPoints({ every: 'day', at: '22:00' }, keep);
    expect(Math.abs(alive.length - settled.points!)).toBeLessThanOrEqual(2);
    expect(settled.arithmetic).toContain('8 weekly, 12 monthly, 3 yearly');
    expect(settled.furthestDays).toBeGreaterThan(700);
  });
  const gone2 = (list: readonly KeptPoint[], keep: Keep, at: number) =>
    new Set(
      decideRetention(list, keep, at, false)
        .filter((d) => d.expires)
        .map((d) => d.id),
    );
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
