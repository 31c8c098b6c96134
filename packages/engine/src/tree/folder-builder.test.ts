import { createHash } from 'node:crypto';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { FolderBuilder, packEntry, type PackedEntry } from './tree-writer';
import type { TreeEntry } from './tree-entry';

const entry = (n: number): TreeEntry => ({
  name: `item-${String(n).padStart(7, '0')}`,
  kind: 'file',
  mode: 0o644,
  uid: 0,
  gid: 0,
  mtimeNs: BigInt(n),
  ctimeNs: 0n,
  inode: n,
  size: n,
});
const builder = () => {
  const stored: Buffer[] = [];
  const put = (data: Uint8Array) => {
    stored.push(Buffer.from(data));
    return createHash('sha256').update(data).digest();
  };
  return { builder: new FolderBuilder(put), stored };
};

describe('a folder being built', () => {
  it('becomes the same node in whatever order its entries arrive, without those that vanished', () => {
    const made = fc.array(fc.record({ entry: fc.nat(1000).map(entry), gone: fc.boolean(), order: fc.nat() }), { maxLength: 40 });
    fc.assert(
      fc.property(made, (list) => {
        const inOrder = builder();
        for (const { entry: e, gone } of list) if (!gone) inOrder.builder.add(packEntry(e));
        const mixed = builder();
        const places = list.map((l) => ({ ...l, place: mixed.builder.reserve() }));
        for (const { place, entry: e, gone } of places.sort((a, b) => a.order - b.order))
          mixed.builder.fill(place, gone ? null : packEntry(e));
        const wanted = inOrder.builder.finish();
        expect(mixed.builder.finish()).toEqual(wanted);
        expect(wanted.items).toBe(list.filter((l) => !l.gone).length);
      }),
    );
  });

  it('refuses to be finished while a place is open', () => {
    const { builder: b } = builder();
    b.reserve();
    expect(() => b.finish()).toThrow(RangeError);
  });

  it('keeps pieces small however many entries come', () => {
    const { builder: b, stored } = builder();
    let waitingMost = 0;
    const held: [number, PackedEntry][] = [];
    for (let i = 0; i < 50_000; i++) {
      held.push([b.reserve(), packEntry(entry(i))]);
      if (held.length === 100) for (const [place, packed] of held.splice(0).reverse()) b.fill(place, packed);
      waitingMost = Math.max(waitingMost, held.length);
    }
    const ref = b.finish();
    expect(ref).toMatchObject({ items: 50_000, bytes: (50_000 * 49_999) / 2 });
    expect(Math.max(...stored.map((d) => d.length))).toBeLessThan(1 << 20);
    expect(stored.length).toBeGreaterThan(20);
  });
});
