import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { rounds } from '../../../../tests/support/by-command';
import { decideRetention, type Keep } from '../retention/retention';
import type { Schedule } from '../time/schedule';
import { fullOn, simulate, type MeasuredWorkload, type SimulatedRule } from './simulate';
import { Calendar } from '../retention/long-term';
import { nextRuns } from '../time/schedule';
import { Ends, type Ending } from './timeline';

const day = 86_400_000;
const now = Date.UTC(2026, 10, 23, 9);
const zones = fc.constantFrom('UTC', 'Europe/Oslo', 'America/New_York');
const longTerm = fc.record({
  weeks: fc.integer({ min: 0, max: 8 }),
  months: fc.integer({ min: 0, max: 6 }),
  years: fc.integer({ min: 0, max: 2 }),
  day: fc.integer({ min: 1, max: 7 }),
});
const keeps: fc.Arbitrary<Keep> = fc.oneof(
  fc.record({ by: fc.constant('days' as const), days: fc.integer({ min: 1, max: 40 }), longTerm: fc.option(longTerm, { nil: undefined }) }),
  fc.record({
    by: fc.constant('points' as const),
    points: fc.integer({ min: 1, max: 40 }),
    longTerm: fc.option(longTerm, { nil: undefined }),
  }),
  fc.constant<Keep>({ by: 'hand' }),
);
const schedules: fc.Arbitrary<Schedule> = fc.oneof(
  fc.constant<Schedule>({ every: 'day', at: '22:00' }),
  fc.constant<Schedule>({ every: 'hours', hours: 6, at: '01:00' }),
  fc.constant<Schedule>({ every: 'week', days: [3, 7], at: '03:00' }),
);
const rules = fc.record({ keep: keeps, lockDays: fc.constantFrom(0, 0, 5, 30), zone: zones, schedule: schedules });
const workloads: fc.Arbitrary<MeasuredWorkload[]> = fc.array(
  fc.record({
    moments: fc
      .uniqueArray(fc.integer({ min: 1, max: 60 * 24 }), { maxLength: 20 })
      .map((ages) => [ages.sort((a, b) => b - a).map((h) => now - h * 3_600_000)]),
    stored: fc.integer({ min: 1, max: 1e6 }),
    newPerDay: fc.integer({ min: 0, max: 1e5 }),
    growthPerDay: fc.integer({ min: 0, max: 100 }),
  }),
  { minLength: 1, maxLength: 4 },
);
const longer = (keep: Keep, more: number): Keep =>
  keep.by === 'days' ? { ...keep, days: keep.days + more } : keep.by === 'points' ? { ...keep, points: keep.points + more } : keep;

/** The ends of a row of points that goes on with others. */
function endsOf(moments: readonly number[], rule: Ending, future: readonly number[] = []): number[] {
  const calendar = new Calendar(rule.zone, rule.keep.by === 'hand' ? 1 : (rule.keep.longTerm?.day ?? 1));
  const ends = new Float64Array(moments.length + future.length);
  new Ends(rule, future, calendar).of(moments, new Float64Array(ends.length), ends);
  return [...ends];
}

describe('the ends of points', () => {
  it('are those that retention decides when it is asked day by day', () => {
    fc.assert(
      fc.property(workloads, rules, (list, rule) => {
        const moments = list[0]!.moments[0]!;
        const ends = endsOf(moments, rule);
        let alive = moments.map((moment, i) => ({
          id: String(i),
          moment,
          held: false,
          suspect: false,
          ...(rule.lockDays && { lockedUntil: moment + rule.lockDays * day }),
        }));
        for (let at = moments[0] ?? now; at < now + 100 * day; at += day / 2) {
          const known = alive.filter((p) => p.moment <= at);
          const gone = new Set(
            decideRetention(known, rule.keep, at, false, rule.zone)
              .filter((d) => d.expires)
              .map((d) => d.id),
          );
          alive = alive.filter((p) => !gone.has(p.id));
          const expected = moments.flatMap((moment, i) => (moment > at || ends[i]! > at ? [String(i)] : []));
          const left = alive.map((p) => p.id);
          // the second point of a month that is kept for another reason becomes the first when that has gone, and then stays a little longer
          if (rule.keep.by !== 'hand' && rule.keep.longTerm) expect(left).toEqual(expect.arrayContaining(expected));
          else expect(left).toEqual(expected);
        }
      }),
      { numRuns: rounds(10, 30) },
    );
  });
});

describe('a simulated policy', () => {
  const run = (list: readonly MeasuredWorkload[], rule: SimulatedRule, days = 200) => simulate(list, [rule], now, days);

  it('counts on every day exactly the points that are kept then', () => {
    fc.assert(
      fc.property(workloads, rules, (list, rule) => {
        const moments = list[0]!.moments[0]!;
        const future = nextRuns(rule, now, 300);
        const all = [...moments, ...future];
        const ends = endsOf(all, rule);
        expect(endsOf(moments, rule, future)).toEqual(ends);
        const course = run([list[0]!], rule, 50);
        course.days.forEach((d, i) => {
          const standing = all.filter((at, k) => at <= d && ends[k]! > d);
          expect(course.points[i]).toBe(standing.length);
          expect(course.reach[i]).toBeCloseTo(standing.length ? (d - standing[0]!) / day : 0, 9);
        });
      }),
      { numRuns: rounds(10, 30) },
    );
  });

  it('keeps more, takes more and reaches further when it keeps for longer', () => {
    fc.assert(
      fc.property(workloads, rules, fc.integer({ min: 0, max: 30 }), (list, rule, more) => {
        const short = run(list, rule);
        const long = run(list, { ...rule, keep: longer(rule.keep, more), lockDays: rule.lockDays + more });
        for (let i = 0; i < short.days.length; i++) {
          expect(long.points[i]).toBeGreaterThanOrEqual(short.points[i]!);
          expect(long.reach[i]).toBeGreaterThanOrEqual(short.reach[i]!);
          expect(long.bytes[i]).toBeGreaterThanOrEqual(short.bytes[i]! * (1 - 1e-9));
        }
        expect(long.goAtOnce).toBeLessThanOrEqual(short.goAtOnce);
      }),
      { numRuns: rounds(10, 30) },
    );
  });

  it('is the sum of its workloads, in any order, and takes at least one of each and at most all in full', () => {
    fc.assert(
      fc.property(workloads, rules, (list, rule) => {
        const whole = run(list, rule);
        const turned = run([...list].reverse(), rule);
        const parts = list.map((w) => run([w], rule));
        for (let i = 0; i < whole.days.length; i += 13) {
          const sum = (of: 'points' | 'bytes') => parts.reduce((s, p) => s + p[of][i]!, 0);
          expect(whole.points[i]).toBe(sum('points'));
          expect(whole.bytes[i]).toBeCloseTo(sum('bytes'), 3);
          expect(turned.bytes[i]).toBeCloseTo(whole.bytes[i]!, 3);
          const sizes = list.map((w) => w.stored + (w.growthPerDay * (whole.days[i]! - now)) / day);
          const most = Math.max(...sizes) * whole.points[i]!;
          expect(whole.bytes[i]).toBeLessThanOrEqual(most * (1 + 1e-9));
        }
      }),
      { numRuns: rounds(10, 30) },
    );
  });

  it('of several rules has the points of each, and takes no more than they would by themselves', () => {
    fc.assert(
      fc.property(workloads, rules, rules, (list, one, other) => {
        const zone = one.zone;
        const [a, b] = [one, { ...other, zone }];
        const half = (w: MeasuredWorkload, odd: number) => w.moments[0]!.filter((_, i) => i % 2 === odd);
        const both = simulate(
          list.map((w) => ({ ...w, moments: [half(w, 0), half(w, 1)] })),
          [a, b],
          now,
          100,
        );
        const parts = [a, b].map((rule, odd) =>
          simulate(
            list.map((w) => ({ ...w, moments: [half(w, odd)] })),
            [rule],
            now,
            100,
          ),
        );
        for (let i = 0; i < both.days.length; i += 7) {
          expect(both.points[i]).toBe(parts[0]!.points[i]! + parts[1]!.points[i]!);
          expect(both.reach[i]).toBe(Math.max(parts[0]!.reach[i]!, parts[1]!.reach[i]!));
          expect(both.bytes[i]).toBeLessThanOrEqual((parts[0]!.bytes[i]! + parts[1]!.bytes[i]!) * (1 + 1e-9));
          for (const part of parts) expect(both.bytes[i]).toBeGreaterThanOrEqual(part.bytes[i]! * (1 - 1e-9));
        }
        expect(both.goAtOnce).toBe(parts[0]!.goAtOnce + parts[1]!.goAtOnce);
      }),
      { numRuns: rounds(7, 20) },
    );
  });

  it('settles where the arithmetic says, and is full on the day its room ends', () => {
    const workload = { moments: [[]], stored: 1000, newPerDay: 10, growthPerDay: 0 };
    const rule: SimulatedRule = { keep: { by: 'days', days: 14 }, lockDays: 0, zone: 'UTC', schedule: { every: 'day', at: '22:00' } };
    const course = run([workload], rule, 100);
    expect(course.points[99]).toBe(14);
    expect(course.reach[99]).toBeCloseTo(13 + 2 / 24, 5);
    expect(course.bytes[99]).toBeCloseTo(1000 * (1 + 13 * (1 - Math.exp(-0.01))), 3);
    expect(fullOn(course, 1e9)).toBeUndefined();
    expect(fullOn(course, 1050)).toBe(course.days[course.bytes.findIndex((b) => b > 1050)]);
  });
});
