import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { cloudMonth, fittingSizes, sizeMonth } from './cloud-cost';

const size = fc.record({
  name: fc.string({ maxLength: 5 }),
  processors: fc.integer({ min: 1, max: 64 }),
  memory: fc.integer({ min: 256, max: 1 << 20 }),
  perHour: fc.double({ min: 0, max: 100, noNaN: true }),
});

describe('sizes in a cloud', () => {
  it('that fit have what is needed, and none that fits is cheaper than the first', () => {
    fc.assert(
      fc.property(fc.array(size, { maxLength: 20 }), fc.integer({ max: 64 }), fc.integer({ max: 1 << 20 }), (sizes, processors, memory) => {
        const fits = fittingSizes(sizes, { processors, memory });
        expect(fits.every((s) => s.processors >= processors && s.memory >= memory)).toBe(true);
        const all = sizes.filter((s) => s.processors >= processors && s.memory >= memory);
        expect(fits).toHaveLength(all.length);
        for (const s of all) expect(s.perHour).toBeGreaterThanOrEqual(fits[0]!.perHour);
      }),
    );
  });

  it('of one price are told apart: the smaller one is proposed', () => {
    const sizes = [
      { name: 'b', processors: 4, memory: 8192, perHour: 1 },
      { name: 'a', processors: 2, memory: 8192, perHour: 1 },
    ];
    expect(fittingSizes(sizes, { processors: 1, memory: 0 }).map((s) => s.name)).toEqual(['a', 'b']);
  });
});

describe('a month in a cloud', () => {
  it('is the hours of the size, the disks at full size and the address', () => {
    const month = cloudMonth({ perHour: 0.1 }, [{ size: 20e9, perGBMonth: 0.05 }], 3);
    expect(month.size).toBeCloseTo(73.05, 6);
    expect(month.disks).toBeCloseTo(1, 9);
    expect(month.total).toBeCloseTo(77.05, 6);
    expect(sizeMonth({ perHour: 0 })).toBe(0);
  });
});
