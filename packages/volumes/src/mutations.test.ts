import { describe, expect, it } from 'vitest';
import { memoryBlocks, type Blocks } from './blocks';
import { volumesOf } from './disk/disks';
import { VolumeError } from './errors';
import type { FileSystem, VolumeItem } from './file-system';
import { fixture } from './testing/images';

/** Changed images for each file system; many more by `LITHODEX_MUTATIONS=16000 npx vitest run --project unit packages/volumes/src/mutations.test.ts`. */
const rounds = Number(process.env['LITHODEX_MUTATIONS'] ?? 40);
/** What a look at a changed image may ask for: more would be a hang in the making. */
const mostReads = 40_000;
const mostItems = 150;

/** A disk that notes where small things were read, counts, and refuses to go on for ever. */
function watched(data: Buffer, touched?: Set<number>): Blocks {
  const inner = memoryBlocks(data);
  let reads = 0;
  return {
    size: data.length,
    read(offset, length) {
      if (++reads > mostReads) throw new Error('reads without end');
      touched?.add(Math.floor(offset / 512));
      return inner.read(offset, length);
    },
  };
}

async function look(system: FileSystem, isDamage: (error: unknown) => void): Promise<void> {
  const waiting: VolumeItem[] = [await system.top()];
  let items = 0;
  for (let folder = waiting.pop(); folder && items < mostItems; folder = waiting.pop())
    try {
      for await (const piece of system.list(folder.key))
        for (const item of piece) {
          if (++items > mostItems) return;
          if (item.kind === 'folder') waiting.push(item);
          try {
            await system.detail(item);
            if (item.kind === 'file' && !item.unread) await system.read(item.key, 0, Math.min(item.size, 4096));
          } catch (error) {
            isDamage(error);
          }
        }
    } catch (error) {
      isDamage(error);
    }
}

async function lookAt(disks: ReadonlyMap<string, Blocks>, isDamage: (error: unknown) => void): Promise<void> {
  for (const volumes of (await volumesOf(disks)).values())
    for (const volume of volumes)
      try {
        if (volume.open) await look(await volume.open(), isDamage);
      } catch (error) {
        isDamage(error);
      }
}

/** Repeatable numbers below 2^32. */
function numbers(seed: number): () => number {
  let state = seed;
  return () => {
    state = (Math.imul(state ^ (state >>> 15), 0x2c1b3c6d) + 0x9e3779b9) >>> 0;
    return (state ^ (state >>> 12)) >>> 0;
  };
}

const images = [['dirty-ext4'], ['xfs4'], ['xfs5'], ['ntfs'], ['exfat'], ['lvm-a', 'lvm-b']];

describe('changed images', () => {
  it.each(images)(
    'end in damage that is told: %s',
    async (...names) => {
      const whole = await Promise.all(names.map(async (name) => Buffer.from(await fixture(name).read(0, fixture(name).size))));
      const touched = names.map(() => new Set<number>());
      await lookAt(new Map(names.map((name, i) => [name, watched(whole[i]!, touched[i])])), () => undefined);
      const sectors = touched.map((own) => [...own]);
      const next = numbers(names.join().length);
      let slowest = 0;
      for (let round = 0; round < rounds; round++) {
        const which = next() % names.length;
        const data = whole[which]!;
        const changes = Array.from({ length: 1 + (next() % 3) }, () => {
          const at = sectors[which]![next() % sectors[which]!.length]! * 512 + (next() % 512);
          return { at, was: data[at]! };
        });
        for (const { at } of changes) data[at] = next() % 4 === 0 ? 0xff : next() % 256;
        const started = performance.now();
        await lookAt(new Map(names.map((name, i) => [name, watched(whole[i]!)])), (error) => {
          expect(error, `round ${round}`).toBeInstanceOf(VolumeError);
        });
        slowest = Math.max(slowest, performance.now() - started);
        for (const { at, was } of changes.reverse()) data[at] = was;
      }
      if (rounds > 1000) process.stderr.write(`${names.join('+')}: ${rounds} changed images, slowest ${Math.round(slowest)} ms\n`);
    },
    900_000,
  );
});
