import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { outOfUsual } from './out-of-usual';

const history = fc.array(fc.integer({ min: 0, max: 1000 }), { minLength: 5, maxLength: 30 });

describe('out of the usual', () => {
  it('is what is far above the median and its spread', () => {
    expect(outOfUsual([10, 11, 9, 10, 12, 10], 60, 1)).toBe(6);
    expect(outOfUsual([10, 11, 9, 10, 12, 10], 19, 1)).toBeUndefined();
    expect(outOfUsual([10, 60, 9, 55, 12, 48], 60, 1)).toBeUndefined();
    expect(outOfUsual([10, 10, 10, 10], 1000, 1)).toBeUndefined();
    expect(outOfUsual([1, 1, 1, 1, 1], 40, 50)).toBeUndefined();
    expect(outOfUsual([0, 0, 0, 0, 0], 100, 50)).toBe(4);
  });

  it('is nothing that went before more often than not', () => {
    fc.assert(
      fc.property(history, (values) => {
        const middle = [...values].sort((a, b) => a - b)[values.length >> 1]!;
        expect(outOfUsual(values, middle, 1)).toBeUndefined();
      }),
    );
  });

  it('stays so when the value grows', () => {
    fc.assert(
      fc.property(history, fc.integer({ min: 1, max: 5000 }), (values, value) => {
        const times = outOfUsual(values, value, 10);
        if (times !== undefined) expect(outOfUsual(values, value + 1, 10)).toBeGreaterThan(times);
      }),
    );
  });

  it('does not depend on the unit', () => {
    fc.assert(
      fc.property(history, fc.integer({ min: 1, max: 5000 }), (values, value) => {
        const [a, b] = [
          outOfUsual(values, value, 10),
          outOfUsual(
            values.map((v) => v * 8),
            value * 8,
            80,
          ),
        ];
        expect(b).toEqual(a);
      }),
    );
  });
});
