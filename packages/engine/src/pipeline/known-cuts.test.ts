import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { KnownCuts } from './known-cuts';

const nameOf = (i: number) => Buffer.alloc(32, i + 1);
const earlierOf = (lengths: readonly number[]) => ({ names: Buffer.concat(lengths.map((_, i) => nameOf(i))), lengths });

describe('cuts of an earlier point', () => {
  it('are found where a chunk but the last began, and nowhere else', () => {
    const lengths = fc.array(fc.integer({ min: 1, max: 50 }), { maxLength: 20 });
    fc.assert(
      fc.property(lengths, fc.array(fc.nat(30), { maxLength: 60 }), (list, steps) => {
        const known = new KnownCuts(earlierOf(list));
        const begins = new Map<number, number>();
        list.reduce((at, length, i) => {
          if (i < list.length - 1) begins.set(at, i);
          return at + length;
        }, 0);
        let position = 0;
        for (const step of steps) {
          position += step;
          const i = begins.get(position);
          expect(known.lengthAt(position)).toBe(i === undefined ? undefined : list[i]);
          if (i !== undefined) expect([known.holds(nameOf(i)), known.holds(nameOf(i + 1))]).toEqual([true, false]);
        }
      }),
    );
  });

  it('are none where nothing is known', () => {
    expect(new KnownCuts(undefined).lengthAt(0)).toBeUndefined();
  });
});
