import fc from 'fast-check';
import { DateTime } from 'luxon';
import { describe, expect, it } from 'vitest';
import { dueSince, hourSteps, longestGap, nextRuns, runsPerDay, type Schedule } from './schedule';

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
);
const instants = fc.integer({ min: Date.UTC(2024, 0), max: Date.UTC(2028, 0) });
const hour = 3_600_000;

describe('next runs', () => {
  it('come in order, after the given instant, as many as asked for', () => {
    fc.assert(
      fc.property(schedules, zones, instants, (schedule, zone, after) => {
        const runs = nextRuns(schedule, zone, after, 8);
        expect(runs).toHaveLength(8);
        expect([after, ...runs].every((t, i, all) => i === 0 || t > all[i - 1]!)).toBe(true);
      }),
    );
  });

  it('do not depend on where one starts to look', () => {
    fc.assert(
      fc.property(schedules, zones, instants, fc.integer({ min: 1, max: 5 }), (schedule, zone, after, skip) => {
        const runs = nextRuns(schedule, zone, after, skip + 3);
        expect(nextRuns(schedule, zone, runs[skip - 1]!, 3)).toEqual(runs.slice(skip));
      }),
    );
  });

  it('come once a calendar day for a daily schedule, also when the clock changes', () => {
    fc.assert(
      fc.property(clock, zones, instants, (at, zone, after) => {
        const days = nextRuns({ every: 'day', at }, zone, after, 10).map((t) => DateTime.fromMillis(t, { zone }).toISODate());
        expect(new Set(days).size).toBe(10);
      }),
    );
  });

  it('leave at most the longest gap between them, give or take a change of the clock', () => {
    fc.assert(
      fc.property(schedules, zones, instants, (schedule, zone, after) => {
        const runs = nextRuns(schedule, zone, after, 9);
        const gaps = runs.slice(1).map((t, i) => t - runs[i]!);
        expect(Math.max(...gaps)).toBeLessThanOrEqual(longestGap(schedule) + 2 * hour);
      }),
    );
  });

  it('take a wall time that is skipped in spring as much later as the clock jumped', () => {
    const [run] = nextRuns({ every: 'day', at: '02:30' }, 'Europe/Oslo', Date.UTC(2026, 2, 29, 0, 0), 1);
    expect(DateTime.fromMillis(run!, { zone: 'Europe/Oslo' }).toFormat('dd HH:mm')).toBe('29 03:30');
  });

  it('take a wall time that comes twice in autumn once, at its first occurrence', () => {
    const runs = nextRuns({ every: 'day', at: '02:30' }, 'Europe/Oslo', Date.UTC(2026, 9, 24, 12), 2);
    expect(runs.map((t) => new Date(t).toISOString())).toEqual(['2026-10-25T00:30:00.000Z', '2026-10-26T01:30:00.000Z']);
  });

  it('are none by hand', () => {
    expect(nextRuns({ every: 'hand' }, 'UTC', 0, 5)).toEqual([]);
    expect(runsPerDay({ every: 'hand' })).toBe(0);
  });
});

describe('what is due', () => {
  it('is the latest scheduled instant of the time that passed, and nothing else', () => {
    fc.assert(
      fc.property(schedules, zones, instants, fc.integer({ min: 0, max: 20 * 24 * hour }), (schedule, zone, after, passed) => {
        const due = dueSince(schedule, zone, after, after + passed);
        const runs = nextRuns(schedule, zone, after, 500).filter((t) => t <= after + passed);
        expect(due).toBe(runs.at(-1));
      }),
      { numRuns: 60 },
    );
  });
});
