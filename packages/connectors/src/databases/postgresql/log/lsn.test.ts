import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { placeOf, placeText, segmentName, segmentsBetween, segmentStart } from './lsn';

const size = 16 << 20;
const place = fc.nat(Number.MAX_SAFE_INTEGER).map((n) => n % 2 ** 52);

describe('places in a log', () => {
  it('are the same when they are written and read', () => {
    fc.assert(
      fc.property(place, (at) => {
        expect(placeOf(placeText(at))).toBe(at);
      }),
    );
    expect(placeOf('16/B374D848')).toBe(0x16_b374_d848);
    expect(() => placeOf('nowhere')).toThrow();
  });

  it('lie in segments whose names are in their order', () => {
    expect(segmentName(1, placeOf('16/B374D848'), size)).toBe('0000000100000016000000B3');
    fc.assert(
      fc.property(place, fc.nat(50), (at, more) => {
        const names = segmentsBetween(3, at, segmentStart(at, size) + more * size, size);
        expect(names).toHaveLength(more + 1);
        expect([...names].sort()).toEqual(names);
        expect(new Set(names).size).toBe(names.length);
      }),
    );
  });
});
