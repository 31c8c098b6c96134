import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { rounds } from '../../../../tests/support/by-command';
import { TreeReader, type TreeEntry } from '@lithodex/engine';
import { createHash } from 'node:crypto';
import { ImageMap, imageBlock, zeroBlock } from './image-map';

const sum = (data: Uint8Array) => createHash('sha256').update(data).digest();
const nameOf = (n: number) => sum(Buffer.from(String(n)));
const hole = Buffer.alloc(32);
const entry: TreeEntry = { name: 'a.raw', kind: 'file', mode: 0, uid: 0, gid: 0, mtimeNs: 0n, ctimeNs: 0n, inode: 0, size: 0 };

describe('the map of an image', () => {
  const write = fc.tuple(fc.nat(1200), fc.integer({ min: -2, max: 9 }));
  it('is what was set, knows what changed, and comes back from what is stored', async () => {
    await fc.assert(
      fc.asyncProperty(fc.integer({ min: 1, max: 700 * imageBlock }), fc.array(write, { maxLength: 400 }), async (size, writes) => {
        const map = new ImageMap(size);
        const model = new Map<number, Buffer>();
        for (const [at, value] of writes) {
          const block = at % map.blocks;
          const now = value < 0 ? hole : nameOf(value);
          const before = model.get(block) ?? hole;
          const wanted = before.equals(now) ? 'same' : now === hole ? 'removed' : before === hole ? 'added' : 'changed';
          expect(map.set(block, now)).toBe(wanted);
          if (now === hole) model.delete(block);
          else model.set(block, now);
        }
        expect(map.used).toBe(model.size);
        const chunks = new Map<string, Buffer>();
        const put = (data: Uint8Array) => {
          const name = sum(data);
          chunks.set(name.toString('hex'), Buffer.from(data));
          return name;
        };
        const { ranges = [], content } = map.stored(put);
        const trees = new TreeReader({ read: async (name) => chunks.get(name.toString('hex'))! });
        const again = (await ImageMap.of({ ...entry, size, ranges, ...(content && { content }) }, trees, sum(zeroBlock)))!;
        for (let block = 0; block < map.blocks; block++) expect(again.name(block) ?? hole).toEqual(model.get(block) ?? hole);
        const inside = new Set(
          again.dataRanges().flatMap(([o, n]) => Array.from({ length: Math.ceil(n / imageBlock) }, (_, i) => o / imageBlock + i)),
        );
        expect([...inside].sort()).toEqual([...model.keys()].sort());
      }),
      { numRuns: rounds(20, 60) },
    );
  });

  it('is not made of a file that is stored otherwise', async () => {
    const trees = new TreeReader({ read: async () => Buffer.alloc(0) });
    const content = { names: nameOf(1), lengths: [1000] };
    expect(await ImageMap.of({ ...entry, size: 2 * imageBlock, content }, trees, hole)).toBeUndefined();
  });
});
