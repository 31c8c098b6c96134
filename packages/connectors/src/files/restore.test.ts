import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { type ChunkWriter, DiskFolder, Store, writeFolder, type ItemKind, type TreeEntry } from '@lithodex/engine';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import { PlacePool } from './place-pool';
import { HostLimits, usualBounds } from './host-limits';
import { Placer, threadsOf } from './placer';
import { treeOf } from '../readable-tree';
import type { RestoredItem } from '../connector';
import { Restorer } from './restore';

let base: string;
let store: Store;
let writer: ChunkWriter;

beforeEach(async () => {
  base = temporaryFolder('restore');
  fs.mkdirSync(`${base}/store`);
  fs.mkdirSync(`${base}/outside`);
  store = await Store.create(new DiskFolder(`${base}/store`), randomBytes(32), new Date(0));
  writer = store.writer();
});
afterEach(async () => {
  for (const { placer, pool } of placers.splice(0)) {
    placer.close();
    await pool.close();
  }
  fs.rmSync(base, { recursive: true, force: true });
});

const entry = (name: string, kind: ItemKind, more: Partial<TreeEntry> = {}): TreeEntry => ({
  name,
  kind,
  mode: kind === 'folder' ? 0o755 : 0o644,
  uid: 0,
  gid: 0,
  mtimeNs: 1_000_000_000n,
  ctimeNs: 0n,
  inode: 1,
  size: 0,
  ...more,
});

function file(name: string, text: string): TreeEntry {
  const data = Buffer.from(text);
  return entry(name, 'file', { size: data.length, content: { names: writer.put(data), lengths: [data.length] } });
}

/** A folder holding exactly these entries, whatever their names: what a forged or damaged store could hold. */
function folder(name: string, entries: TreeEntry[]): TreeEntry {
  return entry(name, 'folder', { folder: writeFolder((d) => writer.put(d), entries) });
}

const placers: { placer: Placer; pool: PlacePool }[] = [];
function placerFor(stopped = () => false): Placer {
  const pool = new PlacePool(store.keys, store.target.place);
  const placer = new Placer({
    tree: treeOf(store),
    threads: threadsOf(store, pool),
    onBytes: () => undefined,
    stopped,
  });
  placers.push({ placer, pool });
  return placer;
}

async function restore(
  top: TreeEntry,
  to = '',
  more: { stopped?: () => boolean; trial?: boolean; base?: string; limits?: HostLimits } = {},
): Promise<RestoredItem[]> {
  await writer.finish();
  const items: RestoredItem[] = [];
  const restorer = new Restorer({
    base: more.base ?? `${base}/back`,
    limits: more.limits ?? HostLimits.none,
    cameFrom: undefined,
    rule: 'replace',
    stamp: 'now',
    taskId: 't',
    trial: more.trial ?? false,
    tree: treeOf(store),
    placer: placerFor(more.stopped),
    onItem: (item) => items.push(item),
    drain: () => undefined,
    stopped: more.stopped ?? (() => false),
  });
  try {
    await restorer.item(top, to);
  } finally {
    restorer.close();
  }
  return items;
}

describe('a store that lies', () => {
  it.each(['..', '.', '../outside/x', 'a/b', '/etc/x', '', 'x\0y'])(
    'can not lead out of the destination with the name %j',
    async (name) => {
      const items = await restore(folder('', [file('good', 'fine'), file(name, 'evil')]));
      expect(items.filter((i) => i.action === 'failed')).toHaveLength(1);
      expect(fs.readdirSync(`${base}/back`)).toEqual(['good']);
      expect(fs.readdirSync(`${base}/outside`)).toEqual([]);
    },
  );

  it('can not lead out through a link inside what it restores', async () => {
    const items = await restore(
      folder('', [entry('door', 'link', { linkTarget: `${base}/outside` }), folder('door', [file('x', 'evil')])]),
    );
    expect(fs.readdirSync(`${base}/outside`)).toEqual([]);
    expect(items.some((i) => i.path === 'door/x' && i.action === 'write')).toBe(true);
    expect(fs.lstatSync(`${base}/back/door`).isDirectory()).toBe(true);
  });

  it('does not enter a destination that was made a link, nor one behind a link of others', async () => {
    fs.symlinkSync(`${base}/outside`, `${base}/back`);
    for (const trial of [true, false])
      await expect(restore(folder('', [file('x', 'evil')]), '', { trial })).rejects.toThrow('links are not followed');
    fs.unlinkSync(`${base}/back`);
    fs.mkdirSync(`${base}/theirs`);
    fs.chownSync(`${base}/theirs`, 65534, 65534);
    fs.symlinkSync(`${base}/outside`, `${base}/theirs/turned`);
    const into = (to: string) => restore(folder('', [file('x', 'evil')]), '', { base: to });
    await expect(into(`${base}/theirs/turned/deep`)).rejects.toThrow('links are not followed');
    expect(fs.readdirSync(`${base}/outside`)).toEqual([]);
  });

  it("does not reach the mover's own things from above", async () => {
    for (const name of ['keys', 'scripts']) fs.mkdirSync(`${base}/back/host/${name}`, { recursive: true });
    const limits = new HostLimits(usualBounds([`${base}/back/host/keys`, `${base}/back/host/token`, `${base}/back/host/scripts`]));
    const host = folder('host', [
      folder('keys', [file('x', 'evil')]),
      file('token', 'evil'),
      folder('scripts', [file('run.sh', 'evil')]),
      file('fine', 'fine'),
    ]);
    const items = await restore(folder('', [host]), '', { limits });
    expect(items.flatMap((i) => (i.action === 'failed' ? [i.path] : [])).sort()).toEqual(['host/keys', 'host/scripts', 'host/token']);
    expect(fs.readdirSync(`${base}/back/host`).sort()).toEqual(['fine', 'keys', 'scripts']);
    expect(fs.readdirSync(`${base}/back/host/scripts`)).toEqual([]);
  });

  it('is caught when content is not what the name says', async () => {
    const bad = file('a', 'good content');
    const other = file('b', 'other content');
    const swapped = { ...bad, content: { names: (other.content as { names: Buffer }).names, lengths: [12] } };
    const items = await restore(folder('', [swapped]));
    expect(items[0]?.action).toBe('failed');
    expect(fs.readdirSync(`${base}/back`)).toEqual([]);
  });
});

describe('restoring', () => {
  it('refuses a place outside the destination', async () => {
    await expect(restore(file('x', 'y'), '../outside/x')).rejects.toMatchObject({ code: 'PATH_MISSING' });
  });

  it('says what could not be read at backup time instead of making an empty file', async () => {
    const items = await restore(folder('', [entry('secret', 'file', { unread: true, size: 10 })]));
    expect(items).toMatchObject([{ path: 'secret', action: 'failed', remark: expect.stringContaining('could not be read') as string }]);
  });

  it('makes folders above an item with the properties they had', async () => {
    await writer.finish();
    const restorer = new Restorer({
      base: `${base}/back`,
      limits: HostLimits.none,
      cameFrom: undefined,
      rule: 'leave',
      stamp: '',
      taskId: 't',
      trial: false,
      tree: treeOf(store),
      placer: placerFor(),
      onItem: () => undefined,
      drain: () => undefined,
      stopped: () => false,
    });
    await restorer.item(entry('pipe', 'fifo'), 'a/b/pipe', [entry('a', 'folder', { mode: 0o700 }), entry('b', 'folder', { mode: 0o711 })]);
    restorer.close();
    expect([fs.statSync(`${base}/back/a`).mode & 0o777, fs.statSync(`${base}/back/a/b`).mode & 0o777]).toEqual([0o700, 0o711]);
    expect(fs.lstatSync(`${base}/back/a/b/pipe`).isFIFO()).toBe(true);
  });

  it('goes on after the item that failed, and stops when told to', async () => {
    fs.mkdirSync(`${base}/back/taken`, { recursive: true });
    const items = await restore(folder('', [file('after', 'z'), file('taken', 'a folder is there')]));
    expect(items.map((i) => [i.path, i.action])).toEqual([
      ['after', 'write'],
      ['taken', 'leave'],
    ]);
    let seen = 0;
    await expect(
      restore(folder('', [file('one', '1'), file('two', '2'), file('three', '3')]), '', { stopped: () => ++seen > 2 }),
    ).rejects.toMatchObject({ code: 'STOPPED' });
    expect(fs.readdirSync(`${base}/back`).filter((n) => n.startsWith('.lithodex'))).toEqual([]);
  });

  it('tries without making even the destination', async () => {
    const items = await restore(folder('', [file('a', '1'), folder('f', [file('b', '2')])]), '', { trial: true });
    expect(items.map((i) => i.path).sort()).toEqual(['a', 'f', 'f/b']);
    expect(fs.existsSync(`${base}/back`)).toBe(false);
  });
});
