import { bytesOfText } from '@lithodex/core';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { blocksOf, nameAt, type PlacedName } from './name-blocks';

const byteString = fc
  .array(fc.integer({ min: 0, max: 255 }), { minLength: 1, maxLength: 20 })
  .map((bytes) => String.fromCharCode(...bytes));
const parent = fc.constantFrom(Buffer.alloc(16, 1), Buffer.alloc(16, 10), Buffer.alloc(16, 255));

const namesOf = ({ names, refs, count }: ReturnType<typeof blocksOf>[number]) => {
  const lines = names.toString().split('\n');
  expect(nameAt(refs, count, '')).toBeUndefined();
  return Array.from({ length: count }, (_, i) => nameAt(refs, i, lines[i]!));
};

describe('blocks of names', () => {
  it('give back every name, of any bytes, with its folder', () => {
    fc.assert(
      fc.property(fc.array(fc.record({ parent, name: byteString }), { maxLength: 30 }), (entries: PlacedName[]) => {
        expect(blocksOf(entries).flatMap(namesOf)).toEqual(entries);
      }),
    );
  });

  it('hold names as they are searched, one a line', () => {
    const name = bytesOfText('Ölstand\n100%.TXT');
    const [block] = blocksOf([{ parent: Buffer.alloc(16), name }]);
    expect(block!.names.toString()).toBe('ölstand%0a100%25.txt\n');
    expect(namesOf(block!)).toEqual([{ parent: Buffer.alloc(16), name }]);
  });

  it('are of bounded size', () => {
    const many = Array.from({ length: 12_001 }, (_, i) => ({ parent: Buffer.alloc(16), name: `name-${i}` }));
    expect(blocksOf(many).map((b) => b.count)).toEqual([5000, 5000, 2001]);
    const long = Array.from({ length: 3000 }, (_, i) => ({ parent: Buffer.alloc(16), name: `${i}${'x'.repeat(900)}` }));
    const blocks = blocksOf(long);
    expect(blocks.length).toBe(3);
    expect(blocks.flatMap(namesOf)).toEqual(long);
  });
});
