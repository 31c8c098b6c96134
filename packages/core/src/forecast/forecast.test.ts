import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { expectedRoom, fillDate, forecastRoom, type RoomSample } from './forecast';

const day = 86_400_000;
const start = Date.UTC(2026, 8, 7, 6);
const series = (days: number, used: (d: number) => number): RoomSample[] =>
  Array.from({ length: days }, (_, d) => ({ at: start + d * day, used: used(d) }));

describe('the forecast of a target', () => {
  it('finds the trend and the season of a week, through a jump or missing days', () => {
    fc.assert(
      fc.property(
        fc.integer({ min: 1, max: 1000 }),
        fc.array(fc.integer({ min: -200, max: 200 }), { minLength: 7, maxLength: 7 }),
        fc.integer({ min: 35, max: 80 }),
        fc.uniqueArray(fc.integer({ min: 3, max: 30 }), { maxLength: 3 }),
        fc.boolean(),
        (slope, weekdays, days, holes, jumps) => {
          const season = (d: number) => weekdays[d % 7]!;
          const drop = jumps ? 5000 : 0;
          const samples = series(days, (d) => 1e6 + slope * d + season(d) - (d > 12 ? drop : 0)).filter(
            (_, d) => jumps || !holes.includes(d),
          );
          const f = forecastRoom(samples)!;
          expect(f.perDay).toBeCloseTo(slope, 6);
          expect(f.low).toBeLessThanOrEqual(f.perDay);
          expect(f.high).toBeGreaterThanOrEqual(f.perDay);
          const last = samples.at(-1)!.at;
          for (let ahead = 1; ahead <= 14; ahead++) {
            const true_ = 1e6 + slope * (days - 1 + ahead) + season(days - 1 + ahead) - drop;
            expect(Math.abs(expectedRoom(f, last, start + (days - 1 + ahead) * day) - true_)).toBeLessThan(450);
          }
        },
      ),
      { numRuns: 50 },
    );
  });

  it('is surer the longer it has looked', () => {
    const noisy = (d: number) => 1e6 + 100 * d + ((d * 7919) % 401) - 200;
    const [short, long] = [forecastRoom(series(20, noisy))!, forecastRoom(series(200, noisy))!];
    expect(short.estimated).toBe(true);
    expect(long.estimated).toBe(false);
    expect(long.high - long.low).toBeLessThan(short.high - short.low);
    expect(long.perDay).toBeGreaterThan(80);
    expect(long.perDay).toBeLessThan(120);
  });

  it('says when the room ends, at the earliest and at the latest, and never where nothing grows', () => {
    const f = forecastRoom(series(40, (d) => 1000 + 10 * d))!;
    const last = start + 39 * day;
    expect(fillDate(f, last, 1490)).toEqual({ expected: last + 10 * day, earliest: last + 10 * day, latest: last + 10 * day });
    expect(fillDate(f, last, 500).expected).toBe(last);
    const still = forecastRoom(series(40, () => 1000))!;
    expect(fillDate(still, last, 2000)).toEqual({ expected: undefined, earliest: undefined, latest: undefined });
    expect(fillDate({ ...f, low: -1 }, last, 2000).latest).toBeUndefined();
  });

  it('is silent about less than four days', () => {
    expect(forecastRoom(series(3, (d) => d))).toBeUndefined();
    expect(forecastRoom([])).toBeUndefined();
    const f = forecastRoom(series(5, (d) => 100 * d))!;
    expect(f.perDay).toBe(100);
    expect(f.season).toEqual([0, 0, 0, 0, 0, 0, 0]);
  });
});
