import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import os from 'node:os';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
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
      const last = await Store.open(new DiskFolder(folder), keyFile);
      const { root } = (await last.root('s', 't1'))!;
      const entries = await last.trees.folder(topEntry(root).folder!.node);
      for (const [i, entry] of entries.entries())
        expect((await last.reader.read((entry.content as { names: Buffer }).names)).equals(content[i]!)).toBe(true);
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
