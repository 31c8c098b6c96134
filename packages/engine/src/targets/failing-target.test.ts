import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import os from 'node:os';
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';
import { EngineError } from '../errors';
import type { Root } from '../format/root';
import type { ChunkWriter } from '../store/chunk-writer';
import { Store } from '../store/store';
import { encodeTop, topEntry } from '../tree/tree-reader';
import type { TreeEntry } from '../tree/tree-entry';
import { writeFolder } from '../tree/tree-writer';
import { DiskFolder } from './disk-folder';

/** A disk folder whose n-th writing operation fails. */
class FailingFolder extends DiskFolder {
  writes = 0;
  failAt = Infinity;

  private count(): void {
    if (++this.writes === this.failAt) throw new EngineError('TARGET_FULL', 'no room, as ordered');
  }

  override async put(name: string, data: Uint8Array): Promise<void> {
    this.count();
    return super.put(name, data);
  }

  override async putExclusive(name: string, data: Uint8Array): Promise<boolean> {
    this.count();
    return super.putExclusive(name, data);
  }
}

let folder: string;
beforeEach(() => {
  folder = fs.mkdtempSync(`${os.tmpdir()}/lithodex-failing-`);
});
afterEach(() => {
  fs.rmSync(folder, { recursive: true, force: true });
});

const file = (name: string, writer: ChunkWriter, data: Buffer): TreeEntry => ({
  name,
  kind: 'file',
  mode: 0o644,
  uid: 0,
  gid: 0,
  mtimeNs: 1n,
  ctimeNs: 1n,
  inode: 1,
  size: data.length,
  content: { names: writer.put(data), lengths: [data.length] },
});

/** Stores a small tree and commits its root. */
async function commit(store: Store, taskId: string, content: Buffer[]): Promise<boolean> {
  const writer = store.writer();
  const ref = writeFolder(
    (d) => writer.put(d),
    content.map((data, i) => file(`file-${i}`, writer, data)),
  );
  await writer.finish();
  const top: TreeEntry = {
    name: '',
    kind: 'folder',
    mode: 0o755,
    uid: 0,
    gid: 0,
    mtimeNs: 1n,
    ctimeNs: 1n,
    inode: 1,
    size: 0,
    folder: ref,
  };
  const root = { format: 1, taskId, seriesId: 's', top: encodeTop(top), totals: {}, owners: {}, groups: {} } as unknown as Root;
  return store.commit(root);
}

/** Reads all of the point from the disk as it is. */
async function expectWhole(keyFile: Buffer, content: Buffer[]): Promise<void> {
  const store = await Store.open(new DiskFolder(folder), keyFile);
  const { root } = (await store.root('s', 't1'))!;
  const entries = await store.trees.folder(topEntry(root).folder!.node);
  for (const [i, entry] of entries.entries())
    expect((await store.reader.read((entry.content as { names: Buffer }).names)).equals(content[i]!)).toBe(true);
}

const calls = ['openSync', 'writeSync', 'fsyncSync', 'mkdirSync', 'renameSync', 'linkSync', 'closeSync'] as const;

/** Lets the n-th of the system's calls that change something fail, from now on until `restore`. `half`: a write before that leaves half of it on the disk. */
function failNth(n: number, code: string, half: boolean): { restore: () => void; reached: () => boolean } {
  let count = 0;
  const spies = calls.map((call) => {
    const plain = fs[call] as (...args: unknown[]) => unknown;
    return vi.spyOn(fs, call as 'openSync').mockImplementation(((...args: unknown[]) => {
      const hit = ++count === n;
      if (!hit || call === 'closeSync') return plain(...args);
      if (half && call === 'writeSync') plain(args[0], args[1], args[2], Math.floor((args[3] as number) / 2));
      throw Object.assign(new Error(`${code}: as ordered`), { code });
    }) as typeof fs.openSync);
  });
  const restore = () => {
    for (const spy of spies) spy.mockRestore();
  };
  return { restore, reached: () => count >= n };
}

describe('a disk on which the n-th call of the system fails', () => {
  it.each([
    ['EIO', false],
    ['ENOSPC', false],
    ['ENOSPC', true],
  ])('with %s (half written before: %s) holds whole points only and takes the point at the next try', async (code, half) => {
    const keyFile = randomBytes(32);
    const content = Array.from({ length: 3 }, () => randomBytes(200_000));
    for (let n = 1; ; n++) {
      fs.rmSync(folder, { recursive: true });
      fs.mkdirSync(folder);
      await Store.create(new DiskFolder(folder), keyFile, new Date(0));
      const store = await Store.open(new DiskFolder(folder), keyFile);
      const fault = failNth(n, code, half);
      const done = await commit(store, 't1', content)
        .catch((error: unknown) => (error as EngineError).code)
        .finally(fault.restore);
      const fresh = await Store.open(new DiskFolder(folder), keyFile);
      if (await fresh.root('s', 't1')) await expectWhole(keyFile, content);
      else expect(await commit(fresh, 't1', content)).toBe(true);
      await expectWhole(keyFile, content);
      if (!fault.reached()) {
        expect([done, n > 20]).toEqual([true, true]);
        break;
      }
      expect([true, code === 'ENOSPC' ? 'TARGET_FULL' : 'TARGET_REFUSED']).toContain(done);
    }
  });

  it('takes a write that the system does in several parts', async () => {
    const plain = fs.writeSync as (...args: unknown[]) => number;
    const spy = vi
      .spyOn(fs, 'writeSync')
      .mockImplementation((...args: unknown[]) => plain(args[0], args[1], args[2], Math.min(args[3] as number, 4_097)));
    const keyFile = randomBytes(32);
    const content = [randomBytes(200_000)];
    await Store.create(new DiskFolder(folder), keyFile, new Date(0));
    const store = await Store.open(new DiskFolder(folder), keyFile);
    expect(
      await commit(store, 't1', content).finally(() => {
        spy.mockRestore();
      }),
    ).toBe(true);
    await expectWhole(keyFile, content);
  });
});

describe('a target that fails at its n-th write', () => {
  it('holds whole points only, whatever n is, and takes the point at the next try without storing twice', async () => {
    const keyFile = randomBytes(32);
    const content = Array.from({ length: 6 }, () => randomBytes(300_000));
    for (let n = 1; ; n++) {
      fs.rmSync(folder, { recursive: true });
      fs.mkdirSync(folder);
      const target = new FailingFolder(folder);
      await Store.create(target, keyFile, new Date(0));
      const store = await Store.open(target, keyFile);
      target.failAt = target.writes + n;
      const done = await commit(store, 't1', content).catch((error: unknown) => (error as EngineError).code);
      const fresh = await Store.open(new DiskFolder(folder), keyFile);
      const found = await fresh.root('s', 't1');
      expect(found !== undefined).toBe(done === true);
      if (done !== true) {
        expect(done).toBe('TARGET_FULL');
        expect(await commit(fresh, 't1', content)).toBe(true);
      }
      await expectWhole(keyFile, content);
      if (done === true) {
        expect(n).toBeGreaterThan(3);
        break;
      }
    }
  });

  it('names a full disk, a missing folder and a refusing one', async () => {
    const target = new DiskFolder(`${folder}/store`);
    await expect(target.put('x', Buffer.of(1))).rejects.toMatchObject({ code: 'TARGET_MISSING' });
    await expect(target.read('x')).rejects.toMatchObject({ code: 'OBJECT_MISSING' });
    fs.writeFileSync(`${folder}/file`, '');
    await expect(new DiskFolder(`${folder}/file`).put('x', Buffer.of(1))).rejects.toMatchObject({ code: 'TARGET_REFUSED' });
    expect(await new DiskFolder(folder).list('none/')).toEqual([]);
    expect((await new DiskFolder(folder).room()).free).toBeGreaterThan(0);
  });
});
