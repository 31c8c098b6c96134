import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { DiskFolder, Store, topEntry, diffTrees, type TreeChange } from '@lithodex/engine';
import {
  threadsOf,
  treeOf,
  closePools,
  HostLimits,
  PlacePool,
  Placer,
  Restorer,
  type RestoredItem,
  type Warned,
} from '@lithodex/connectors';
import type { ConflictRule } from '@lithodex/core';
import fc from 'fast-check';
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';
import { rounds } from '../../../../tests/support/by-command';
import { describeTree, diskUse, makeNastyTree, temporaryFolder } from '../../../../tests/support/nasty-tree';
import { folderTree, pointRequest, quietly } from '../../../../tests/support/store-kit';
import { takePoint, type PointRequest } from './take-point';

let base: string;
let store: Store;
const keyFile = randomBytes(32);

beforeEach(async () => {
  base = temporaryFolder('point');
  fs.mkdirSync(`${base}/store`);
  fs.mkdirSync(`${base}/source`);
  store = await Store.create(new DiskFolder(`${base}/store`), keyFile, new Date(0));
});

afterEach(async () => {
  await closePools();
  fs.rmSync(base, { recursive: true, force: true });
});

const request = (taskId: string, previous: string | null, more: Partial<PointRequest> = {}): PointRequest =>
  pointRequest(`${base}/source`, taskId, previous, more);

async function take(taskId: string, previous: string | null = null, more: Partial<PointRequest> = {}) {
  const warnings: Warned[] = [];
  const taken = await takePoint(store, request(taskId, previous, more), {
    ...quietly,
    now: () => 2000,
    warn: (w) => warnings.push(w),
  });
  return { ...taken, warnings };
}

async function bringBack(taskId: string, to: string, rule: ConflictRule = 'leave', paths = [''], from?: Store) {
  const opened = from ?? (await Store.open(new DiskFolder(`${base}/store`), keyFile));
  const { root } = (await opened.root('s1', taskId))!;
  const items: RestoredItem[] = [];
  const pool = new PlacePool(opened.keys, opened.target.place);
  const placer = new Placer({
    tree: treeOf(opened),
    threads: threadsOf(opened, pool),
    onBytes: () => undefined,
    stopped: () => false,
  });
  const restorer = new Restorer({
    base: to,
    limits: HostLimits.none,
    cameFrom: undefined,
    rule,
    stamp: '2026-11-22 2200',
    taskId: 'r1',
    trial: false,
    tree: treeOf(opened),
    placer,
    onItem: (item) => items.push(item),
    drain: () => undefined,
    stopped: () => false,
  });
  for (const path of paths) await restorer.item(await opened.trees.find(topEntry(root), path), path);
  restorer.close();
  placer.close();
  await pool.close();
  return items;
}

describe('a point of a folder tree', () => {
  it('comes back identical in content and metadata, whatever the names and kinds', async () => {
    makeNastyTree(`${base}/source`, 2 ** 31);
    const { root, warnings } = await take('t1');
    expect(warnings).toEqual([]);
    expect(root.totals.bytes).toBeGreaterThan(2_147_483_648);
    const items = await bringBack('t1', `${base}/back`);
    expect(items.filter((i) => i.action === 'failed' || i.remark !== '')).toEqual([]);
    const top = topEntry(root);
    const { applyMetadata } = await import('../../../connectors/src/files/metadata');
    applyMetadata(Buffer.from(`${base}/back`), top);
    expect(describeTree(`${base}/back`)).toBe(describeTree(`${base}/source`));
    expect(diskUse(`${base}/back`)).toBeLessThan(diskUse(`${base}/source`) * 1.2);
    expect(diskUse(`${base}/store`)).toBeLessThan(12_000_000);
  });

  it('stores almost nothing when nothing changed and reads nothing again', async () => {
    makeNastyTree(`${base}/source`);
    await take('t1');
    const second = await take('t2', 't1');
    expect(second.root.totals.read).toBe(0);
    expect(second.root.totals.fresh).toBe(0);
    expect(second.root.totals.items).toBe((await store.root('s1', 't1'))!.root.totals.items);
    const full = await take('t3', 't2', { kind: 'full' });
    expect(full.root.totals.read).toBeGreaterThan(9_000_000);
    expect(full.root.totals.fresh).toBe(0);
  });

  it('keeps every version as it was and tells what changed between two points', async () => {
    fs.mkdirSync(`${base}/source/a/b`, { recursive: true });
    fs.writeFileSync(`${base}/source/a/one.txt`, 'first');
    fs.writeFileSync(`${base}/source/a/b/two.txt`, 'second');
    fs.writeFileSync(`${base}/source/gone.txt`, 'soon gone');
    await take('t1');
    const before = describeTree(`${base}/source`);
    fs.writeFileSync(`${base}/source/a/one.txt`, 'changed');
    fs.rmSync(`${base}/source/gone.txt`);
    fs.writeFileSync(`${base}/source/a/three.txt`, 'new');
    const { root, previous } = await take('t2', 't1');
    const changes: TreeChange[] = [];
    for await (const c of diffTrees(store.trees, previous && topEntry(previous), topEntry(root))) changes.push(c);
    expect(
      changes
        .filter((c) => c.entry.kind === 'file')
        .map((c) => `${c.change} ${c.entry.name}`)
        .sort(),
    ).toEqual(['added three.txt', 'changed one.txt', 'removed gone.txt']);
    await bringBack('t1', `${base}/back`);
    const { applyMetadata } = await import('../../../connectors/src/files/metadata');
    applyMetadata(Buffer.from(`${base}/back`), topEntry((await store.root('s1', 't1'))!.root));
    expect(describeTree(`${base}/back`)).toBe(before);
  });

  it('leaves the folder of the target out of the source by itself, and what patterns leave out', async () => {
    fs.mkdirSync(`${base}/source/inner/store`, { recursive: true });
    fs.writeFileSync(`${base}/source/inner/store/pack`, 'x');
    fs.writeFileSync(`${base}/source/keep.log`, 'k');
    fs.writeFileSync(`${base}/source/drop.tmp`, 'd');
    const { root } = await take('t1', null, {
      from: folderTree(`${base}/source`, { targetFolders: [`${base}/source/inner/store`] }),
      exclude: ['*.tmp'],
    });
    expect(root.leftOut.byItself).toEqual(['inner/store']);
    expect(root.totals.items).toBe(2);
  });

  it('adopts the root that an earlier attempt committed instead of making a second one', async () => {
    fs.writeFileSync(`${base}/source/a`, '1');
    const first = await take('t1');
    fs.writeFileSync(`${base}/source/b`, '2');
    const again = await take('t1');
    expect(again.adopted).toBe(true);
    expect(again.root).toEqual(first.root);
  });

  it('warns of what it may not read, keeps the run going and takes it up later as not looked at', async () => {
    fs.chmodSync(base, 0o755);
    fs.mkdirSync(`${base}/source/open`);
    fs.mkdirSync(`${base}/source/closed`);
    fs.writeFileSync(`${base}/source/closed/secret`, 's');
    fs.writeFileSync(`${base}/source/private`, 'p');
    await take('t1');
    fs.chmodSync(`${base}/source/closed`, 0o700);
    fs.chmodSync(`${base}/source/private`, 0o600);
    const { warnings, root, previous } = await take('t2', 't1', { from: folderTree(`${base}/source`, { readAs: 'nobody' }) });
    expect(warnings.map((w) => `${w.code} ${w.path}`).sort()).toEqual(['UNREADABLE closed', 'UNREADABLE private']);
    const changes: TreeChange[] = [];
    for await (const c of diffTrees(store.trees, previous && topEntry(previous), topEntry(root))) changes.push(c);
    expect(changes.find((c) => c.entry.name === 'secret')?.change).toBe('unseen');
  });

  it('goes on when a disk can not list one of its folders, and says which', async () => {
    for (const name of ['before', 'broken', 'later']) {
      fs.mkdirSync(`${base}/source/${name}`);
      fs.writeFileSync(`${base}/source/${name}/file`, name);
    }
    const list = fs.readdirSync as unknown as (path: string, ...rest: unknown[]) => string[];
    const spy = vi.spyOn(fs, 'readdirSync').mockImplementation(((path: string, ...rest: unknown[]) => {
      if (/^\/proc\/self\/fd\/\d+$/.test(path) && fs.readlinkSync(path).endsWith('/broken'))
        throw Object.assign(new Error('EIO'), { code: 'EIO' });
      return list(path, ...rest);
    }) as unknown as typeof fs.readdirSync);
    const { warnings, root } = await take('p1').finally(() => {
      spy.mockRestore();
    });
    expect(warnings).toMatchObject([{ code: 'UNREADABLE', path: 'broken', missing: true, message: expect.stringContaining('(EIO)') }]);
    expect(root.totals.files).toBe(2);
    expect((await take('p2', 'p1')).root.totals).toMatchObject({ files: 3, read: 6 });
  });

  it('taken as an incremental is the same, node for node, as one that reads everything, whatever changed', async () => {
    const name = fc.constantFrom('a', 'b', 'c', 'd', 'é');
    const path = fc.array(name, { minLength: 1, maxLength: 3 }).map((parts) => `${base}/source/${parts.join('/')}`);
    const act = fc.tuple(fc.constantFrom('write', 'folder', 'remove', 'mode', 'link', 'hard', 'touch'), path, fc.string({ maxLength: 20 }));
    const perform = ([kind, at, text]: [string, string, string]) => {
      try {
        if (kind === 'write') fs.writeFileSync(at, text);
        else if (kind === 'folder') fs.mkdirSync(at, { recursive: true });
        else if (kind === 'remove') fs.rmSync(at, { recursive: true });
        else if (kind === 'mode') fs.chmodSync(at, 0o700 + text.length);
        else if (kind === 'link') fs.symlinkSync(text || 'x', at);
        else if (kind === 'hard') fs.linkSync(at, `${at}2`);
        else fs.utimesSync(at, text.length, text.length);
      } catch {
        // what can not be done to the tree as it is changes nothing
      }
    };
    let n = 0;
    await fc.assert(
      fc.asyncProperty(fc.array(fc.array(act, { maxLength: 12 }), { minLength: 2, maxLength: 4 }), async (rounds) => {
        fs.rmSync(`${base}/source`, { recursive: true, force: true });
        fs.mkdirSync(`${base}/source`);
        let previous: string | null = null;
        for (const round of rounds) {
          for (const each of round) perform(each);
          const id = `round-${n++}`;
          const step = await take(id, previous);
          const anew = await take(`${id}-full`, null, { kind: 'full' });
          expect(step.top.folder).toEqual(anew.top.folder);
          previous = id;
        }
      }),
      { numRuns: rounds(4, 12) },
    );
  });

  it('of many files comes back the same through the threads, hard links and holes included, and a damaged part costs only its own files', async () => {
    for (let i = 0; i < 1500; i++) {
      const at = `${base}/source/dir-${i % 37}`;
      fs.mkdirSync(at, { recursive: true });
      fs.writeFileSync(`${at}/file-${i}`, `content ${i} `.repeat(i % 90), { mode: 0o600 + (i % 64) });
      if (i % 100 === 0) fs.linkSync(`${at}/file-${i}`, `${base}/source/link-${i}`);
      if (i % 200 === 0) fs.truncateSync(`${at}/file-${i}`, 3_000_000);
      fs.utimesSync(`${at}/file-${i}`, i, i);
    }
    fs.writeFileSync(`${base}/source/large`, randomBytes(30_000_000));
    await take('t1');
    const items = await bringBack('t1', `${base}/back`);
    expect(items.filter((i) => i.action !== 'write' || i.remark !== '')).toEqual([]);
    const { applyMetadata } = await import('../../../connectors/src/files/metadata');
    applyMetadata(Buffer.from(`${base}/back`), topEntry((await store.root('s1', 't1'))!.root));
    expect(describeTree(`${base}/back`)).toBe(describeTree(`${base}/source`));
    const again = await bringBack('t1', `${base}/back`, 'replace');
    expect(again.every((i) => ['same', 'merge', 'replace'].includes(i.action))).toBe(true);

    const packs = fs.readdirSync(`${base}/store/packs`, { recursive: true, encoding: 'utf8' }).map((f) => `${base}/store/packs/${f}`);
    const largest = packs.filter((f) => fs.statSync(f).isFile()).sort((a, b) => fs.statSync(b).size - fs.statSync(a).size)[0]!;
    const fd = fs.openSync(largest, 'r+');
    fs.writeSync(fd, randomBytes(16), 0, 16, 5_000_000);
    fs.closeSync(fd);
    const damaged = await bringBack('t1', `${base}/back2`);
    const failed = damaged.filter((i) => i.action === 'failed');
    expect(failed.length).toBeGreaterThan(0);
    expect(failed.length).toBeLessThan(400);
    expect(failed.every((i) => i.remark.includes('damaged') && !fs.existsSync(`${base}/back2/${i.path}`))).toBe(true);
    expect(damaged).toHaveLength(items.length);
  });

  it('notices a single flipped bit when it is read', async () => {
    fs.writeFileSync(`${base}/source/a`, randomBytes(200_000));
    await take('t1');
    const folder = fs.readdirSync(`${base}/store/packs`);
    for (const sub of folder)
      for (const pack of fs.readdirSync(`${base}/store/packs/${sub}`)) {
        const file = `${base}/store/packs/${sub}/${pack}`;
        const data = fs.readFileSync(file);
        data[100] = data[100]! ^ 4;
        fs.writeFileSync(file, data);
      }
    await expect(
      bringBack('t1', `${base}/back`).then(
        (items) => items.some((i) => i.action === 'failed') && Promise.reject(new Error('OBJECT_DAMAGED')),
      ),
    ).rejects.toThrow(/OBJECT_DAMAGED|damaged/);
  });
});

describe('restoring where something exists', () => {
  const read = (name: string) => fs.readFileSync(`${base}/source/${name}`, 'utf8');

  beforeEach(async () => {
    fs.mkdirSync(`${base}/source/plans`);
    fs.writeFileSync(`${base}/source/plans/north.txt`, 'then');
    fs.utimesSync(`${base}/source/plans/north.txt`, 1000, 1000);
    await take('t1');
    fs.writeFileSync(`${base}/source/plans/north.txt`, 'now');
  });

  it('leaves what exists by default', async () => {
    const items = await bringBack('t1', `${base}/source`);
    expect(items.find((i) => i.path === 'plans/north.txt')?.action).toBe('leave');
    expect(read('plans/north.txt')).toBe('now');
  });

  it('replaces', async () => {
    await bringBack('t1', `${base}/source`, 'replace');
    expect(read('plans/north.txt')).toBe('then');
  });

  it('replaces only what is older', async () => {
    await bringBack('t1', `${base}/source`, 'replaceIfOlder');
    expect(read('plans/north.txt')).toBe('now');
    fs.utimesSync(`${base}/source/plans/north.txt`, 10, 10);
    await bringBack('t1', `${base}/source`, 'replaceIfOlder');
    expect(read('plans/north.txt')).toBe('then');
  });

  it('puts beside, and only once when tried again', async () => {
    await bringBack('t1', `${base}/source`, 'beside');
    await bringBack('t1', `${base}/source`, 'beside');
    expect(fs.readdirSync(`${base}/source/plans`).sort()).toEqual(['north (restored 2026-11-22 2200).txt', 'north.txt']);
    expect(read('plans/north (restored 2026-11-22 2200).txt')).toBe('then');
  });

  it('never follows a link out of the destination', async () => {
    fs.mkdirSync(`${base}/outside`);
    fs.rmSync(`${base}/source/plans`, { recursive: true });
    fs.symlinkSync(`${base}/outside`, `${base}/source/plans`);
    const items = await bringBack('t1', `${base}/source`, 'leave', ['plans', 'plans/north.txt']);
    expect(fs.readdirSync(`${base}/outside`)).toEqual([]);
    expect(items.some((i) => i.action === 'failed' || i.action === 'leave')).toBe(true);
    await bringBack('t1', `${base}/source`, 'replace', ['plans']);
    expect(fs.readdirSync(`${base}/outside`)).toEqual([]);
    expect(fs.lstatSync(`${base}/source/plans`).isDirectory()).toBe(true);
  });
});
