import { randomBytes } from 'node:crypto';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { newKeySet } from '../keys/key-set';
import { itemKinds, readEntry, writeEntry, type TreeEntry } from '../tree/tree-entry';
import { EntryCursor } from '../tree/entry-cursor';
import { ByteReader, ByteWriter, instantOf } from './byte-io';
import { decodeSegment, encodeSegment } from './index-segment';
import { openBlock, PackBuilder, readPackToc, Scratch } from './pack';
import { decodeRoot, encodeRoot, type Root } from './root';

const byteString = (max: number) => fc.uint8Array({ maxLength: max }).map((b) => Buffer.from(b).toString('latin1'));
const entries: fc.Arbitrary<TreeEntry> = fc.record(
  {
    name: byteString(300),
    kind: fc.constantFrom(...itemKinds),
    mode: fc.nat(0o7777),
    uid: fc.nat(2 ** 31),
    gid: fc.nat(2 ** 31),
    mtimeNs: fc.bigInt({ min: -(2n ** 62n), max: 2n ** 62n }),
    ctimeNs: fc.bigInt({ min: 0n, max: 2n ** 62n }),
    inode: fc.nat(2 ** 52),
    size: fc.nat(2 ** 52),
    random: fc.constant(true),
    unread: fc.constant(true),
    linkTarget: byteString(100),
    device: fc.nat(2 ** 32),
    hardId: fc.stringMatching(/^\d{1,9}:\d{1,9}$/),
    attributes: fc.array(
      fc.tuple(
        byteString(20),
        fc.uint8Array({ maxLength: 40 }).map((b) => Buffer.from(b)),
      ),
      { minLength: 1, maxLength: 3 },
    ),
    ranges: fc.array(fc.tuple(fc.nat(2 ** 40), fc.nat(2 ** 40)), { maxLength: 4 }),
  },
  { requiredKeys: ['name', 'kind', 'mode', 'uid', 'gid', 'mtimeNs', 'ctimeNs', 'inode', 'size'] },
);

describe('tree entries', () => {
  it('are read back as they were written', () => {
    fc.assert(
      fc.property(fc.array(entries, { maxLength: 5 }), (list) => {
        const w = new ByteWriter();
        for (const e of list) writeEntry(w, e);
        const r = new ByteReader(w.take());
        expect(list.map(() => readEntry(r))).toEqual(list);
        expect(r.left).toBe(0);
      }),
    );
  });

  it('can be gone through without making objects, and taken over byte by byte', () => {
    fc.assert(
      fc.property(fc.array(entries, { maxLength: 5 }), (list) => {
        const w = new ByteWriter();
        for (const e of list) writeEntry(w, e);
        const data = w.take();
        const cursor = new EntryCursor(data, { at: 0 }, list.length);
        for (const e of list) {
          expect(cursor.next()).toBe(true);
          const { kind, mode, uid, gid, inode, size } = e;
          expect(cursor).toMatchObject({ name: e.name, kind, mode, uid, gid, inode, size });
          expect(instantOf(e.mtimeNs)).toEqual({ seconds: cursor.mtimeSeconds, nanos: cursor.mtimeNanos });
          expect(instantOf(e.ctimeNs)).toEqual({ seconds: cursor.ctimeSeconds, nanos: cursor.ctimeNanos });
          expect(readEntry(new ByteReader(cursor.bytes()))).toEqual(e);
        }
        expect(cursor.next()).toBe(false);
      }),
    );
  });

  it('cut short anywhere give an error, never a wrong entry that goes unnoticed', () => {
    fc.assert(
      fc.property(entries, fc.double({ min: 0, max: 0.999, noNaN: true }), (entry, share) => {
        const w = new ByteWriter();
        writeEntry(w, entry);
        const data = w.take();
        const part = data.subarray(0, Math.floor(data.length * share));
        expect(() => readEntry(new ByteReader(part))).toThrow();
        expect(() => new EntryCursor(part, { at: 0 }, 1).next()).toThrow(RangeError);
      }),
    );
  });
});

describe('packs', () => {
  const keys = newKeySet();
  const build = () => {
    const pack = new PackBuilder(keys, new Scratch());
    const raw = [Buffer.from('soundings '.repeat(5000)), randomBytes(30_000)];
    for (const data of raw) pack.add(data, [{ name: randomBytes(32), offset: 0, length: data.length }]);
    return { raw, ...pack.finish() };
  };

  it('leave memory for the next one behind, unless much of it was written on', () => {
    const scratch = new Scratch();
    const first = scratch.take();
    scratch.give(first, 1000);
    scratch.rest();
    expect(scratch.take() === first).toBe(true);
    scratch.give(first, 30 << 20);
    scratch.rest();
    expect(scratch.take() === first).toBe(false);
  });

  it('give their blocks back, compressed or not', () => {
    const { raw, file, toc } = build();
    expect(toc.blocks.map((b) => b.codec)).toEqual([1, 0]);
    toc.blocks.forEach((b, i) => {
      expect(openBlock(keys, toc.packId, i, b, file.subarray(b.offset, b.offset + b.stored))).toEqual(raw[i]);
    });
    expect(readPackToc(keys, file)).toEqual(toc);
  });

  it('betray any flipped bit, a swapped block and another key', () => {
    const { file, toc } = build();
    const [a, b] = toc.blocks as [(typeof toc.blocks)[number], (typeof toc.blocks)[number]];
    const stored = Buffer.from(file.subarray(a.offset, a.offset + a.stored));
    fc.assert(
      fc.property(fc.nat(stored.length * 8 - 1), (bit) => {
        const flipped = Buffer.from(stored);
        flipped[bit >> 3]! ^= 1 << (bit & 7);
        expect(() => openBlock(keys, toc.packId, 0, a, flipped)).toThrow(/damaged/);
      }),
    );
    expect(() => openBlock(keys, toc.packId, 1, { ...b, stored: a.stored }, stored)).toThrow(/damaged/);
    expect(() => openBlock(newKeySet(), toc.packId, 0, a, stored)).toThrow(/damaged/);
    expect(() => readPackToc(keys, file.subarray(0, file.length - 3))).toThrow(/damaged/);
  });

  it('repeat their tables in index segments', () => {
    const tocs = [build().toc, build().toc];
    const { name, file } = encodeSegment(keys, tocs);
    expect(decodeSegment(keys, name, file)).toEqual(tocs);
    const bad = Buffer.from(file);
    bad[60]! ^= 1;
    expect(() => decodeSegment(keys, name, bad)).toThrow(/damaged/);
    expect(() => decodeSegment(keys, name, file.subarray(0, 20))).toThrow(/damaged/);
  });
});

describe('roots', () => {
  const before = { format: 1, taskId: 't', seriesId: 's', top: '', totals: {}, owners: {}, groups: {} };
  const root = { ...before, content: { kind: 'tides', version: 3, facts: { high: 4 }, state: {} } } as unknown as Root;

  it('open under their own name only', () => {
    const keys = newKeySet();
    const file = encodeRoot(keys, 'roots/s/t', root);
    expect(decodeRoot(keys, 'roots/s/t', file)).toEqual(root);
    expect(() => decodeRoot(keys, 'roots/s/other', file)).toThrow(/damaged/);
    expect(() => decodeRoot(keys, 'roots/s/t', file.subarray(0, 30))).toThrow(/damaged/);
  });

  it('of before say what they hold as those of now', () => {
    const keys = newKeySet();
    const read = (old: object) => decodeRoot(keys, 'r', encodeRoot(keys, 'r', old as Root));
    expect(read(before)).toEqual({ ...before, content: { kind: 'files', version: 1, facts: {}, state: {} } });
    const blocks = { before: 1, added: 2, changed: 3, removed: 0, random: 0 };
    const place = { name: 'berth-1', host: 'mole-1', disks: [] };
    expect(read({ ...before, machine: { place, changeIds: { d1: 'c9' }, level: 'crash', blocks } })).toEqual({
      ...before,
      content: { kind: 'machine', version: 1, facts: { ...place, level: 'crash' }, state: { changeIds: { d1: 'c9' } }, changes: blocks },
    });
  });
});
