import fc from 'fast-check';
import { DateTime } from 'luxon';
import { describe, expect, it } from 'vitest';
import { rounds } from '../../../../tests/support/by-command';
import {
  dueSince,
  hourSteps,
  longestGap,
  isRested,
  minuteSteps,
  nextRuns,
  pauseSteps,
  runsBetween,
  runsPerDay,
  type Schedule,
} from './schedule';

const zones = fc.constantFrom('UTC', 'Europe/Oslo', 'America/New_York', 'Australia/Lord_Howe', 'Asia/Kolkata');
const clock = fc
  .tuple(fc.integer({ min: 0, max: 23 }), fc.integer({ min: 0, max: 59 }))
  .map(([h, m]) => `${String(h).padStart(2, '0')}:${String(m).padStart(2, '0')}`);
const schedules: fc.Arbitrary<Schedule> = fc.oneof(
  clock.map((at): Schedule => ({ every: 'day', at })),
  fc
    .tuple(fc.uniqueArray(fc.integer({ min: 1, max: 7 }), { minLength: 1 }), clock)
    .map(([days, at]): Schedule => ({ every: 'week', days, at })),
  fc.tuple(fc.constantFrom(...hourSteps), clock).map(([hours, at]): Schedule => ({ every: 'hours', hours, at })),
  fc.constantFrom(...minuteSteps).map((minutes): Schedule => ({ every: 'minutes', minutes })),
  fc.constantFrom(...pauseSteps).map((pauseMinutes): Schedule => ({ every: 'continuous', pauseMinutes })),
  fc.tuple(fc.integer({ min: 1, max: 31 }), clock).map(([day, at]): Schedule => ({ every: 'month', on: { day }, at })),
  fc
    .tuple(fc.integer({ min: 1, max: 5 }), fc.integer({ min: 1, max: 7 }), clock)
    .map(([nth, weekday, at]): Schedule => ({ every: 'month', on: { nth, weekday }, at })),
);
const instants = fc.integer({ min: Date.UTC(2024, 0), max: Date.UTC(2028, 0) });
const hour = 3_600_000;

describe('minutes past each hour', () => {
  it('come every hour of a day, also where an hour is left out or comes twice', () => {
    const timetable = { schedule: { every: 'hour' as const, past: [0, 40] }, zone: 'Europe/Oslo' };
    const on = (day: string) => {
      const from = DateTime.fromISO(day, { zone: 'Europe/Oslo' });
      return runsBetween(timetable, from.toMillis() - 1, from.plus({ days: 1 }).toMillis() - 1);
    };
    expect(on('2027-03-27')).toHaveLength(48);
    expect(on('2027-03-28')).toHaveLength(46);
    expect(on('2027-10-31')).toHaveLength(50);
    const minutes = new Set(on('2027-10-31').map((t) => DateTime.fromMillis(t, { zone: 'Europe/Oslo' }).minute));
    expect([...minutes]).toEqual([0, 40]);
    expect(runsPerDay(timetable.schedule)).toBe(48);
    expect(longestGap(timetable.schedule)).toBe(40 * 60_000);
    expect(longestGap({ every: 'hour', past: [15] })).toBe(3_600_000);
  });
});

describe('next runs', () => {
  it('come in order, after the given instant, as many as asked for', () => {
    fc.assert(
      fc.property(schedules, zones, instants, (schedule, zone, after) => {
        const runs = nextRuns({ schedule, zone }, after, 8);
        expect(runs).toHaveLength(8);
        expect([after, ...runs].every((t, i, all) => i === 0 || t > all[i - 1]!)).toBe(true);
      }),
    );
  });

  it('do not depend on where one starts to look', () => {
    fc.assert(
      fc.property(schedules, zones, instants, fc.integer({ min: 1, max: 5 }), (schedule, zone, after, skip) => {
        const runs = nextRuns({ schedule, zone }, after, skip + 3);
        expect(nextRuns({ schedule, zone }, runs[skip - 1]!, 3)).toEqual(runs.slice(skip));
      }),
    );
  });

  it('come once a calendar day for a daily schedule, also when the clock changes', () => {
    fc.assert(
      fc.property(clock, zones, instants, (at, zone, after) => {
        const days = nextRuns({ schedule: { every: 'day', at }, zone }, after, 10).map((t) => DateTime.fromMillis(t, { zone }).toISODate());
        expect(new Set(days).size).toBe(10);
      }),
    );
  });

  it('leave at most the longest gap between them, give or take a change of the clock', () => {
    fc.assert(
      fc.property(schedules, zones, instants, (schedule, zone, after) => {
        const runs = nextRuns({ schedule, zone }, after, 9);
        const gaps = runs.slice(1).map((t, i) => t - runs[i]!);
        expect(Math.max(...gaps)).toBeLessThanOrEqual(longestGap(schedule) + 2 * hour);
      }),
    );
  });

  it('take a wall time that is skipped in spring as much later as the clock jumped', () => {
    const [run] = nextRuns({ schedule: { every: 'day', at: '02:30' }, zone: 'Europe/Oslo' }, Date.UTC(2026, 2, 29, 0, 0), 1);
    expect(DateTime.fromMillis(run!, { zone: 'Europe/Oslo' }).toFormat('dd HH:mm')).toBe('29 03:30');
  });

  it('take a wall time that comes twice in autumn once, at its first occurrence', () => {
    const runs = nextRuns({ schedule: { every: 'day', at: '02:30' }, zone: 'Europe/Oslo' }, Date.UTC(2026, 9, 24, 12), 2);
    expect(runs.map((t) => new Date(t).toISOString())).toEqual(['2026-10-25T00:30:00.000Z', '2026-10-26T01:30:00.000Z']);
  });

  it('are those between two instants, wherever one divides the time', () => {
    fc.assert(
      fc.property(schedules, zones, instants, fc.nat(40 * 24 * hour), fc.nat(40 * 24 * hour), (schedule, zone, from, a, b) => {
        const all = runsBetween({ schedule, zone }, from, from + a + b);
        expect([...runsBetween({ schedule, zone }, from, from + a), ...runsBetween({ schedule, zone }, from + a, from + a + b)]).toEqual(
          all,
        );
        expect(nextRuns({ schedule, zone }, from, all.length)).toEqual(all);
      }),
      { numRuns: rounds(10, 30) },
    );
  });

  it('come once a month: on the day of the month, on the last one of shorter months, or on the nth weekday', () => {
    fc.assert(
      fc.property(
        fc.integer({ min: 1, max: 31 }),
        fc.integer({ min: 1, max: 5 }),
        fc.integer({ min: 1, max: 7 }),
        zones,
        instants,
        (day, nth, weekday, zone, after) => {
          const local = (on: { day: number } | { nth: number; weekday: number }) =>
            nextRuns({ schedule: { every: 'month', on, at: '12:00' }, zone }, after, 24).map((t) => DateTime.fromMillis(t, { zone }));
          const byDate = local({ day });
          expect(new Set(byDate.map((d) => d.toFormat('yyyy-MM'))).size).toBe(24);
          for (const d of byDate) expect(d.day).toBe(Math.min(day, d.daysInMonth!));
          for (const d of local({ nth, weekday })) {
            expect(d.weekday).toBe(weekday);
            if (nth === 5) expect(d.plus({ weeks: 1 }).month).not.toBe(d.month);
            else expect(Math.ceil(d.day / 7)).toBe(nth);
          }
        },
      ),
      { numRuns: rounds(12, 40) },
    );
  });

  it('leave closed days out, and nothing else', () => {
    fc.assert(
      fc.property(
        schedules,
        zones,
        instants,
        fc.uniqueArray(fc.nat(40), { maxLength: 12 }),
        fc.boolean(),
        (schedule, zone, after, days, yearly) => {
          const date = (n: number) => DateTime.fromMillis(after, { zone }).plus({ days: n });
          const closed = days.map((n) => date(n).toFormat(yearly ? 'MM-dd' : 'yyyy-MM-dd'));
          const until = after + 40 * 24 * hour;
          const open = runsBetween({ schedule, zone, closed }, after, until);
          const all = runsBetween({ schedule, zone }, after, until);
          const isClosed = (t: number) => closed.includes(DateTime.fromMillis(t, { zone }).toFormat(yearly ? 'MM-dd' : 'yyyy-MM-dd'));
          // a time that the clock skipped belongs to its own day all the same
          expect(open).toEqual(all.filter((t) => !isClosed(t)));
          expect(dueSince({ schedule, zone, closed }, after, until)).toBe(open.at(-1));
        },
      ),
      { numRuns: rounds(10, 30) },
    );
  });

  it('end where all days are closed', () => {
    const closed = Array.from({ length: 366 }, (_, i) => DateTime.utc(2024, 1, 1).plus({ days: i }).toFormat('MM-dd'));
    expect(nextRuns({ schedule: { every: 'day', at: '22:00' }, zone: 'UTC', closed }, 0, 3)).toEqual([]);
  });

  it('are as many as said, on the average', () => {
    fc.assert(
      fc.property(schedules, instants, (schedule, after) => {
        const days = 4 * 365 + 1;
        const even = !('at' in schedule);
        const found = even
          ? runsBetween({ schedule, zone: 'UTC' }, after, after + days * 24 * hour)
          : nextRuns({ schedule, zone: 'UTC' }, after, 1000);
        if (even) expect(found.length / days).toBeCloseTo(runsPerDay(schedule), 6);
        else expect((found.length - 1) / ((found.at(-1)! - found[0]!) / (24 * hour)) / runsPerDay(schedule)).toBeCloseTo(1, 1);
      }),
      { numRuns: rounds(7, 20) },
    );
  });

  it('are none by hand, or where another policy decides', () => {
    expect(nextRuns({ schedule: { every: 'after', policyId: 1 }, zone: 'UTC' }, 0, 5)).toEqual([]);
    expect(nextRuns({ schedule: { every: 'hand' }, zone: 'UTC' }, 0, 5)).toEqual([]);
    expect(runsPerDay({ every: 'hand' })).toBe(0);
  });
});

describe('what is due', () => {
  it('is the latest scheduled instant of the time that passed, and nothing else', () => {
    fc.assert(
      fc.property(schedules, zones, instants, fc.integer({ min: 0, max: 20 * 24 * hour }), (schedule, zone, after, passed) => {
        const due = dueSince({ schedule, zone }, after, after + passed);
        const runs = runsBetween({ schedule, zone }, after, after + passed);
        expect(due).toBe(runs.at(-1));
      }),
      { numRuns: rounds(10, 30) },
    );
  });

  it('all the time is what has rested, on days that are open', () => {
    const pauses = fc.constantFrom(...pauseSteps);
    fc.assert(
      fc.property(pauses, zones, instants, fc.integer({ min: -2 * hour, max: 3 * hour }), fc.boolean(), (pause, zone, now, ago, shut) => {
        const date = DateTime.fromMillis(now, { zone }).toFormat('MM-dd');
        const other = DateTime.fromMillis(now, { zone }).plus({ days: 1 }).toFormat('yyyy-MM-dd');
        expect(isRested({ zone, closed: [other, ...(shut ? [date] : [])] }, pause, now - ago, now)).toBe(!shut && ago >= pause * 60_000);
      }),
    );
  });
});
