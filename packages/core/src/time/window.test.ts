import fc from 'fast-check';
import { DateTime } from 'luxon';
import { describe, expect, it } from 'vitest';
import { windowAt } from './window';

const zones = fc.constantFrom('UTC', 'Europe/Oslo', 'America/New_York', 'Australia/Lord_Howe');
const clock = fc
  .tuple(fc.integer({ min: 0, max: 23 }), fc.integer({ min: 0, max: 59 }))
  .map(([h, m]) => `${String(h).padStart(2, '0')}:${String(m).padStart(2, '0')}`);
const windows = fc.record({ from: clock, to: clock, stop: fc.boolean() });
const instants = fc.integer({ min: Date.UTC(2024, 0), max: Date.UTC(2028, 0) });
const hour = 3_600_000;

describe('a window', () => {
  it('is open from its beginning to its end, and the next one is told where it is closed', () => {
    fc.assert(
      fc.property(windows, zones, instants, (window, zone, at) => {
        const { open, begins, ends } = windowAt(window, zone, at);
        expect(begins).toBeLessThan(ends);
        expect(open).toBe(begins <= at && at < ends);
        expect(at).toBeLessThan(ends);
        expect(ends - begins).toBeLessThanOrEqual(25 * hour);
        expect(begins - at).toBeLessThanOrEqual(25 * hour);
      }),
    );
  });

  it('says the same of every instant within it', () => {
    fc.assert(
      fc.property(windows, zones, instants, fc.double({ min: 0, max: 1, noNaN: true }), (window, zone, at, share) => {
        const found = windowAt(window, zone, at);
        const inside = Math.min(found.ends - 1, Math.floor(found.begins + share * (found.ends - found.begins)));
        expect(windowAt(window, zone, inside)).toEqual({ ...found, open: true });
      }),
    );
  });

  it('goes over midnight, and lasts a whole day from a time to itself', () => {
    const at = (h: number) => DateTime.fromObject({ year: 2027, month: 5, day: 4, hour: h }, { zone: 'Europe/Oslo' }).toMillis();
    const night = { from: '22:00', to: '05:00', stop: false };
    expect(windowAt(night, 'Europe/Oslo', at(3))).toEqual({ open: true, begins: at(0) - 2 * hour, ends: at(5) });
    expect(windowAt(night, 'Europe/Oslo', at(12))).toEqual({ open: false, begins: at(22), ends: at(24 - 1) + 6 * hour });
    expect(windowAt({ ...night, to: '22:00' }, 'Europe/Oslo', at(12)).open).toBe(true);
  });

  it('is as long by the clock on the wall when the clocks change', () => {
    const spring = DateTime.fromISO('2026-03-29T01:00', { zone: 'Europe/Oslo' }).toMillis();
    expect(windowAt({ from: '00:00', to: '06:00', stop: false }, 'Europe/Oslo', spring)).toMatchObject({
      open: true,
      ends: spring + 4 * hour,
    });
  });
});
