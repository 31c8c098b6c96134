import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import os from 'node:os';
import fc from 'fast-check';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { decodeSegment, encodeSegment } from '../format/index-segment';
import { ClaimTable } from '../index/claim-table';
import { PackToc } from '../format/toc';
import { ChunkIndex } from '../index/chunk-index';
import { DiskFolder } from '../targets/disk-folder';
import type { TreeEntry } from '../tree/tree-entry';
import { writeFolder } from '../tree/tree-writer';
import type { ChunkWriter } from './chunk-writer';
import { Store } from './store';
import { makeEnvelope, openEnvelope } from './store-header';

let folder: string;
const key = randomBytes(32);
beforeEach(() => {
  folder = fs.mkdtempSync(`${os.tmpdir()}/lithodex-store-`);
});
afterEach(() => {
  fs.rmSync(folder, { recursive: true, force: true });
});
const create = () => Store.create(new DiskFolder(folder), key, new Date(0));

function writerFor(store: Store, expected = 1000): ChunkWriter {
  return store.writer(ClaimTable.over(store.index.chunks, expected).claims);
}

describe('a store', () => {
  it('opens with its key file only, and says so at once', async () => {
    await create();
    await expect(Store.open(new DiskFolder(folder), randomBytes(32))).rejects.toMatchObject({ code: 'KEY_WRONG' });
    await expect(create()).rejects.toMatchObject({ code: 'TARGET_EXISTS' });
    expect((await Store.open(new DiskFolder(folder), key)).header.format).toBe('lithodex-store');
  });

  it('opens with a key envelope and its passphrase, without the key file', async () => {
    const store = await create();
    const envelope = makeEnvelope(store.keys, store.header, 'quay-disk', 'a long enough passphrase');
    expect(JSON.stringify(envelope)).not.toContain(store.keys.dataKey.toString('base64'));
    expect(openEnvelope(envelope, 'a long enough passphrase')).toEqual(store.keys);
    expect(() => openEnvelope(envelope, 'another passphrase')).toThrow(/key does not open/);
  });

  it('notices a changed header and falls back to its copy when the first is gone', async () => {
    await create();
    const file = `${folder}/lithodex-store.json`;
    const text = fs.readFileSync(file, 'utf8');
    fs.writeFileSync(file, text.replace('1970', '1971'));
    await expect(Store.open(new DiskFolder(folder), key)).resolves.toBeDefined();
    fs.copyFileSync(file, `${folder}/roots/lithodex-store.json`);
    await expect(Store.open(new DiskFolder(folder), key)).rejects.toMatchObject({ code: 'STORE_HEADER' });
    fs.writeFileSync(`${folder}/roots/lithodex-store.json`, text);
    fs.rmSync(file);
    await expect(Store.open(new DiskFolder(folder), key)).resolves.toBeDefined();
  });

  it('gives chunks back, stores equal ones once, and again nothing after reopening', async () => {
    const store = await create();
    const data = Array.from({ length: 50 }, (_, i) => Buffer.concat([Buffer.from(`chunk ${i} `), randomBytes(i * 20_000)]));
    const writer = writerFor(store);
    const names: Buffer[] = [];
    for (const d of [...data, ...data]) {
      names.push(writer.put(d));
      await writer.drain();
    }
    await writer.finish();
    await store.index.checkpoint();
    expect(writer.counts.fresh).toBe(data.reduce((a, d) => a + d.length, 0));
    const again = await Store.open(new DiskFolder(folder), key);
    for (const [i, d] of data.entries()) {
      expect(names[i]).toEqual(names[i + data.length]);
      expect((await again.reader.read(names[i]!)).equals(d)).toBe(true);
    }
    const second = writerFor(again);
    for (const d of data) second.put(d);
    await second.finish();
    expect(second.counts).toEqual({ fresh: 0, stored: 0 });
    await expect(again.reader.read(randomBytes(32))).rejects.toMatchObject({ code: 'CHUNK_MISSING' });
  });

  it('has one winner for a root', async () => {
    const target = new DiskFolder(folder);
    const won = await Promise.all(Array.from({ length: 8 }, (_, i) => target.putExclusive('roots/s/t', Buffer.from(`attempt ${i}`))));
    expect(won.filter(Boolean)).toHaveLength(1);
    expect(fs.readdirSync(`${folder}/staging`)).toEqual([]);
  });

  it('says what is wrong when the target is gone or damaged', async () => {
    const store = await create();
    const writer = writerFor(store);
    const name = writer.put(randomBytes(100_000));
    await writer.finish();
    const [sub] = fs.readdirSync(`${folder}/packs`);
    const [pack] = fs.readdirSync(`${folder}/packs/${sub}`);
    fs.truncateSync(`${folder}/packs/${sub}/${pack}`, 50);
    await expect(store.reader.read(name)).rejects.toMatchObject({ code: 'OBJECT_DAMAGED' });
    fs.rmSync(`${folder}/packs`, { recursive: true });
    const fresh = await Store.withKeys(new DiskFolder(`${folder}/none`), store.header, store.keys);
    await expect(fresh.target.put('packs/aa/x', Buffer.from('x'))).rejects.toMatchObject({ code: 'TARGET_MISSING' });
  });
});

describe('folders as nodes', () => {
  const entry = (name: string, size = 1): TreeEntry => ({
    name,
    kind: 'file',
    mode: 0o644,
    uid: 0,
    gid: 0,
    mtimeNs: 5n,
    ctimeNs: 6n,
    inode: 1,
    size,
  });

  it('come back whole and find every name, small and large', async () => {
    const store = await create();
    await fc.assert(
      fc.asyncProperty(fc.integer({ min: 0, max: 9000 }), async (n) => {
        const writer = writerFor(store);
        const entries = Array.from({ length: n }, (_, i) => entry(`item-${String(i).padStart(6, '0')}`, i));
        const ref = writeFolder((d) => writer.put(d), entries);
        await writer.finish();
        expect(ref).toMatchObject({ items: n, bytes: entries.reduce((sum, e) => sum + e.size, 0) });
        expect(await store.trees.folder(ref.node)).toEqual(entries);
        const top = { ...entry(''), kind: 'folder' as const, folder: ref };
        if (n) expect(await store.trees.find(top, `item-${String(n - 1).padStart(6, '0')}`)).toEqual(entries.at(-1));
        await expect(store.trees.find(top, 'none')).rejects.toMatchObject({ code: 'PATH_MISSING' });
      }),
      { numRuns: 12 },
    );
  });

  it('rewrite only a little of a large folder when one entry changes', async () => {
    const store = await create();
    const entries = Array.from({ length: 30_000 }, (_, i) => entry(`item-${String(i).padStart(6, '0')}`, i));
    const first = writerFor(store, 100_000);
    writeFolder((d) => first.put(d), entries);
    await first.finish();
    const second = writerFor(store, 100_000);
    writeFolder(
      (d) => second.put(d),
      entries.map((e, i) => (i === 12_345 ? { ...e, size: 1 } : e)),
    );
    await second.finish();
    expect(second.counts.fresh).toBeLessThan(first.counts.fresh / 5);
  });
});

describe('the index of a store', () => {
  it('is read again when a prune writes a segment anew between its being listed and being read', async () => {
    const store = await create();
    const writer = writerFor(store);
    const name = writer.put(Buffer.from('needed'));
    await writer.finish();
    await store.index.checkpoint();
    let moved = 0;
    class BesidePrune extends DiskFolder {
      override async read(object: string): Promise<Buffer> {
        if (object.startsWith('index/') && moved++ < 3) {
          const anew = encodeSegment(store.keys, decodeSegment(store.keys, object, fs.readFileSync(`${folder}/${object}`)));
          await this.put(anew.name, anew.file);
          await this.remove(object);
        }
        return super.read(object);
      }
    }
    const opened = await Store.open(new BesidePrune(folder), key);
    expect((await opened.reader.read(name)).toString()).toBe('needed');
    moved = 0;
    const packs = [];
    for await (const toc of opened.index.tocs()) packs.push(toc.packId.toString('hex'));
    expect(new Set(packs).size).toBe(1);
    expect(moved).toBeGreaterThan(3);
  });
});

describe('the indexes', () => {
  it('find what was added and nothing else, however many there are', () => {
    const index = new ChunkIndex();
    const names = Array.from({ length: 20_000 }, () => randomBytes(32));
    names.forEach((name, i) => {
      index.addAll(PackToc.of(name, [], [{ name, block: i + 1, offset: i + 2, length: i + 3 }]), i);
    });
    expect(index.size).toBe(names.length);
    names.forEach((name, i) => {
      expect(index.find(name)).toEqual({ pack: i, block: i + 1, offset: i + 2, length: i + 3 });
    });
    expect(index.find(randomBytes(32))).toBeUndefined();
    const claims = ClaimTable.over(index, 1000);
    expect(names.every((name) => !claims.claim(name))).toBe(true);
    const fresh = randomBytes(32);
    expect([claims.claim(fresh), claims.claim(fresh)]).toEqual([true, false]);
  });

  it('call everything new rather than lose a chunk when the claim table is full', () => {
    const claims = new ClaimTable(new SharedArrayBuffer(64 * 16));
    const names = Array.from({ length: 500 }, () => randomBytes(32));
    expect(names.every((name) => claims.claim(name))).toBe(true);
  });
});
