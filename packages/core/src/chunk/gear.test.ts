import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { looksRandom } from '../anomaly/random-look';
import { Cutter } from './cutter';
import { gearTable, nextCut, type CutSizes } from './gear';

const sizes: CutSizes = { min: 64, mean: 256, max: 1024 };
const table = gearTable(new Uint8Array(32).fill(9));

function cuts(data: Uint8Array): number[] {
  const lengths: number[] = [];
  for (let at = 0; at < data.length; at += lengths.at(-1)!) lengths.push(nextCut(data, at, data.length, table, sizes));
  return lengths;
}

const noise = (n: number, seed: number) => {
  const data = new Uint8Array(n);
  let x = seed | 1;
  for (let i = 0; i < n; i++) {
    x = (Math.imul(x, 1103515245) + 12345) >>> 0;
    data[i] = x >>> 16;
  }
  return data;
};

describe('content-defined cutting', () => {
  it('covers all of the data and stays within the sizes', () => {
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 6000 }), (data) => {
        const lengths = cuts(data);
        expect(lengths.reduce((a, b) => a + b, 0)).toBe(data.length);
        expect(lengths.slice(0, -1).every((n) => n > sizes.min && n <= sizes.max)).toBe(true);
      }),
    );
  });

  it('cuts at about the mean', () => {
    const lengths = cuts(noise(400_000, 5));
    expect(400_000 / lengths.length).toBeGreaterThan(200);
    expect(400_000 / lengths.length).toBeLessThan(420);
  });

  it('finds the old cuts again soon after an inserted byte', () => {
    const data = noise(100_000, 3);
    const shifted = new Uint8Array(data.length + 1);
    shifted.set(data, 1);
    const ends = (lengths: number[], offset: number) => {
      let at = -offset;
      return new Set(lengths.map((n) => (at += n)));
    };
    const before = ends(cuts(data), 0);
    const after = ends(cuts(shifted), 1);
    expect([...before].filter((end) => after.has(end)).length).toBeGreaterThan(before.size - 12);
  });

  it('cuts elsewhere with another seed', () => {
    const other = gearTable(new Uint8Array(32).fill(10));
    const data = noise(50_000, 8);
    expect(nextCut(data, 0, data.length, other, sizes)).not.toBe(nextCut(data, 0, data.length, table, sizes));
  });
});

describe('the fast cutter', () => {
  const cutter = new Cutter(table, sizes, 1 << 17);

  it('cuts and judges any part of its window as the plain functions do', () => {
    const pieces = fc.array(
      fc.oneof(
        fc.tuple(fc.nat(4000), fc.nat(1000)).map(([n, seed]) => noise(n, seed)),
        fc.uint8Array({ maxLength: 2000 }),
        fc.tuple(fc.nat(3000), fc.nat(255)).map(([n, byte]) => new Uint8Array(n).fill(byte)),
      ),
      { maxLength: 8 },
    );
    fc.assert(
      fc.property(pieces, fc.nat(500), (parts, from) => {
        cutter.window.fill(0, 0, from);
        let to = from;
        for (const part of parts) {
          cutter.window.set(part, to);
          to += part.length;
        }
        expect(cutter.random(from, to)).toBe(
          to - from >= 1024 && looksRandom(cutter.window.subarray(from, from + 1024)) && looksRandom(cutter.window.subarray(from, to)),
        );
        for (let at = from; at < to;) {
          const length = cutter.next(at, to);
          expect(length).toBe(nextCut(cutter.window, at, to, table, sizes));
          at += length;
        }
      }),
    );
  });
});
