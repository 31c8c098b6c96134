import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { blockId, packEntry } from '@lithodex/engine';
import { PlaceBatch, readBatch } from './place-message';

const bytes = (length: number) => fc.uint8Array({ minLength: length, maxLength: length }).map((b) => Buffer.from(b));
const at = fc.record({ offset: fc.nat(2 ** 30), stored: fc.nat(2 ** 30), raw: fc.nat(2 ** 30), codec: fc.nat(1) });
const blocks = fc.array(fc.record({ packId: bytes(16), block: fc.nat(1000), at }), { minLength: 1, maxLength: 4 });
const files = fc.array(
  fc.record({
    folder: fc.nat(5000),
    temporary: fc.stringMatching(/^[a-z]{1,9}$/),
    replace: fc.boolean(),
    name: fc.uint8Array({ minLength: 1, maxLength: 60 }).map((b) => Buffer.from(b).toString('latin1')),
    size: fc.nat(2 ** 50),
    chunks: fc.array(fc.record({ name: bytes(32), block: fc.nat(3), offset: fc.nat(2 ** 22), length: fc.nat(2 ** 22) }), { maxLength: 5 }),
  }),
  { maxLength: 6 },
);

const located = <B extends { packId: Buffer; block: number }>(block: B, { offset, length }: { offset: number; length: number }) => ({
  ...block,
  id: blockId(block.packId, block.block),
  offset,
  length,
});

describe('a batch of files to place', () => {
  it('arrives as it was sent', () => {
    fc.assert(
      fc.property(blocks, files, (places, list) => {
        const unique = [...new Map(places.map((b) => [`${b.packId.toString('hex')}${b.block}`, b])).values()];
        const sent = list.map(({ folder, temporary, replace, name, size, chunks }) => ({
          file: {
            folder,
            temporary,
            replace,
            entry: packEntry({ name, kind: 'file', mode: 0o644, uid: 1, gid: 2, mtimeNs: 5n, ctimeNs: 6n, inode: 7, size }).data,
          },
          size,
          chunks: chunks.map((c) => ({
            name: c.name,
            location: located(unique[c.block % unique.length]!, c),
          })),
        }));
        const batch = new PlaceBatch();
        for (const { file, chunks, size } of sent) batch.add({ ...file, size }, chunks);
        expect([batch.count, batch.bytes]).toEqual([list.length, list.reduce((sum, f) => sum + f.size, 0)]);
        expect([...readBatch(batch.take())]).toEqual(sent.map(({ file, chunks }) => ({ file, chunks })));
      }),
    );
  });
});
