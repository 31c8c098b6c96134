import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import fc from 'fast-check';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import { DiskFolder } from '../targets/disk-folder';
import { BlockReader, reusedMemory } from './chunk-reader';
import { Store } from './store';

let base: string;
let store: Store;

beforeEach(async () => {
  base = temporaryFolder('reader');
  fs.mkdirSync(`${base}/store`);
  store = await Store.create(new DiskFolder(`${base}/store`), randomBytes(32), new Date(0));
});
afterEach(() => {
  fs.rmSync(base, { recursive: true, force: true });
});

/** Stores a chunk: random, so that it is stored as it is, or such that it compresses. */
async function stored(sizes: readonly { readonly bytes: number; readonly random: boolean }[]) {
  const writer = store.writer();
  const chunks = sizes.map(({ bytes, random }, i) => {
    const data = random ? randomBytes(bytes) : Buffer.alloc(bytes, `berth ${i}, `);
    return { data, name: writer.put(data) };
  });
  await writer.finish();
  return chunks;
}

describe('blocks in memory that is used again', () => {
  it('give every chunk as it was stored, in any order, however little is kept', async () => {
    const size = fc.record({ bytes: fc.integer({ min: 1, max: 900_000 }), random: fc.boolean() });
    await fc.assert(
      fc.asyncProperty(fc.array(size, { minLength: 2, maxLength: 12 }), fc.array(fc.nat(11), { maxLength: 40 }), async (sizes, order) => {
        const chunks = await stored(sizes);
        const reader = new BlockReader(store.keys, store.target, 2 << 20, reusedMemory());
        for (const i of order) {
          const { name, data } = chunks[i % chunks.length]!;
          expect((await reader.chunk(name, store.reader.locate(name))).equals(data)).toBe(true);
        }
      }),
      { numRuns: 15 },
    );
  });

  it('are handed out again once they are given back', () => {
    const memory = reusedMemory();
    const first = memory.take(100_000);
    expect(memory.take(100_000)).not.toBe(first);
    memory.give(first);
    expect([memory.take(300_000) === first, memory.take(90_000) === first]).toEqual([false, true]);
  });

  it('betray a chunk that is looked for in the wrong place', async () => {
    const [a, b] = await stored([
      { bytes: 700_000, random: true },
      { bytes: 700_000, random: true },
    ]);
    const reader = new BlockReader(store.keys, store.target, 2 << 20, reusedMemory());
    await expect((async () => reader.chunk(a!.name, store.reader.locate(b!.name)))()).rejects.toMatchObject({ code: 'OBJECT_DAMAGED' });
  });
});
