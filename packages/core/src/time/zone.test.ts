import fc from 'fast-check';
import { DateTime, IANAZone, type Zone } from 'luxon';
import { describe, expect, it } from 'vitest';
import { zoneOf } from './zone';

describe('a zone that remembers', () => {
  it('has the offsets of the system, to the millisecond around every change', () => {
    const names = ['Europe/Oslo', 'America/New_York', 'Australia/Lord_Howe', 'Asia/Kathmandu', 'Africa/Casablanca', 'UTC'];
    const near = [Date.UTC(2026, 9, 25, 1), Date.UTC(2026, 2, 29, 1), Date.UTC(2026, 10, 1, 6), Date.UTC(2026, 3, 4, 15)];
    const instants = fc.oneof(
      fc.integer({ min: Date.UTC(1990, 0), max: Date.UTC(2045, 0) }),
      fc.tuple(fc.constantFrom(...near), fc.integer({ min: -2, max: 2 })).map(([at, by]) => at + by),
    );
    fc.assert(
      fc.property(fc.constantFrom(...names), instants, (name, at) => {
        expect(zoneOf(name).offset(at)).toBe(new IANAZone(name).offset(at));
        const text = (zone: string | Zone) => DateTime.fromMillis(at, { zone }).toFormat('yyyy-MM-dd HH:mm:ss.SSS ZZ');
        expect(text(zoneOf(name))).toBe(text(name));
      }),
      { numRuns: 600 },
    );
  });
});
