import { DateTime } from 'luxon';
import { describe, expect, it } from 'vitest';
import { usualLoad } from './earlier-nights';
import { atWork, newestPerWorkload, nightStart, slotMs, spanOf, type NightRow } from './night';

const zone = 'Europe/Oslo';
const at = (iso: string) => DateTime.fromISO(iso, { zone }).toMillis();
const row = (from: number, ms: number, workload = 1): NightRow => ({
  id: `${workload} ${from}`,
  run_id: 1,
  workload_id: workload,
  workload: `w${workload}`,
  source: 's',
  policy_id: 1,
  policy: 'p',
  state: 'done',
  started_at: from,
  ended_at: from + ms,
  attempt: 1,
  cause: null,
  counts: null,
  queued_at: from,
  stored: null,
  point_kind: 'incremental',
});

describe('the night', () => {
  it.each([
    ['2026-11-23T08:00', 1, '2026-11-22T18:00'],
    ['2026-11-23T15:42', 1, '2026-11-22T18:00'],
    ['2026-11-23T23:00', 1, '2026-11-22T18:00'],
    ['2026-11-24T00:30', 1, '2026-11-23T18:00'],
    ['2026-11-23T08:00', 3, '2026-11-20T18:00'],
    ['2026-10-25T08:00', 1, '2026-10-24T18:00'],
  ])('at %s, %d shown, begins at %s', (now, nights, start) => {
    expect(DateTime.fromMillis(nightStart(at(now), zone, nights), { zone }).toFormat("yyyy-MM-dd'T'HH:mm")).toBe(start);
  });

  it('spreads work over its slots', () => {
    const from = at('2026-11-22T18:00');
    const load = atWork([row(from + slotMs / 2, slotMs), row(from + slotMs, slotMs / 4)], from, 3, from + 3 * slotMs);
    expect(load).toEqual([0.5, 0.75, 0]);
    expect(atWork([{ started_at: from, ended_at: null }], from, 2, from + slotMs)).toEqual([1, 0]);
  });

  it('takes the median of the nights that had work as usual', () => {
    expect(usualLoad([[0.25], [0.5], [0.75], [0, 0]])[0]).toBeCloseTo(0.5);
    expect(usualLoad([]).every((load) => load === 0)).toBe(true);
  });

  it('spans from the first start to the last end', () => {
    expect(spanOf([row(1000, 500), row(4000, 1000), { ...row(0, 0), ended_at: null }])).toBe(4000);
    expect(spanOf([])).toBeNull();
    // logs go on all day
    expect(spanOf([row(1000, 500), { ...row(90_000, 10), point_kind: 'log' }])).toBe(500);
  });

  it('tells of a task that did not start only where no other ran', () => {
    const notStarted = (workload: number) => ({ ...row(9, 0, workload), state: 'notStarted' as const });
    const told = newestPerWorkload([row(1, 1, 1), notStarted(1), notStarted(2)]);
    expect(told.map((r) => [r.workload_id, r.state === 'notStarted']).sort()).toEqual([
      [1, false],
      [2, true],
    ]);
  });

  it('keeps the newest task of each workload', () => {
    expect(
      newestPerWorkload([row(1, 1, 1), row(2, 1, 2), row(3, 1, 1)])
        .map((r) => r.started_at)
        .sort(),
    ).toEqual([2, 3]);
  });
});
