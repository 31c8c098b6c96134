import { closePools } from '@lithodex/connectors';
import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { DiskFolder, encodeTop, EngineError, Store, topEntry, writeFolder } from '@lithodex/engine';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { makeNastyTree, temporaryFolder } from '../../../../tests/support/nasty-tree';
import { folderTree, quietly, readAllPoints } from '../../../../tests/support/store-kit';
import { takePoint, type PointRequest } from './take-point';

let base: string;
let store: Store;
const keyFile = randomBytes(32);

beforeEach(async () => {
  base = temporaryFolder('kinds');
  fs.mkdirSync(`${base}/store`);
  fs.mkdirSync(`${base}/source`);
  store = await Store.create(new DiskFolder(`${base}/store`), keyFile, new Date(0));
});
afterEach(async () => {
  await closePools();
  fs.rmSync(base, { recursive: true, force: true });
});

async function take(taskId: string, kind: PointRequest['kind'], previous: string | null, on: string | null, moment = 1000, fresh = false) {
  const read: { bytes: number; chunks: number | undefined }[] = [];
  const warnings: string[] = [];
  const taken = await takePoint(
    store,
    {
      taskId,
      seriesId: 's1',
      workload: { id: 'w1', name: 'quay-1', source: 'quay-1', path: `${base}/source` },
      kind,
      previous,
      base: on,
      moment,
      include: [],
      exclude: [],
      from: folderTree(`${base}/source`),
      fresh,
    },
    {
      ...quietly,
      now: () => 2000,
      warn: (w) => warnings.push(`${w.code} ${w.path}`),
      onReadAgain: (r) => read.push(r),
    },
  );
  return { ...taken, again: read.at(-1), warnings };
}

const write = (name: string, bytes: number) => {
  fs.writeFileSync(`${base}/source/${name}`, randomBytes(bytes));
};

describe('a differential', () => {
  it('reads what changed since the full, again and again, and names it', async () => {
    write('still', 50_000);
    await take('full', 'full', null, null);
    write('first', 7_000);
    expect((await take('one', 'differential', 'full', 'full')).root.totals.read).toBe(7_000);
    write('second', 9_000);
    const { root } = await take('two', 'differential', 'one', 'full');
    expect([root.totals.read, root.totals.fresh < 12_000, root.base, root.previous?.taskId]).toEqual([16_000, true, 'full', 'one']);
    expect((await take('three', 'incremental', 'two', 'two')).root.totals.read).toBe(0);
  });
});

/** Packs of the store, those in `before` left out. */
function packs(before: ReadonlySet<string> = new Set()): string[] {
  const all = fs.readdirSync(`${base}/store/packs`, { recursive: true, withFileTypes: true }).filter((e) => e.isFile());
  return all.map((e) => `${e.parentPath}/${e.name}`).filter((file) => !before.has(file));
}

describe('a full', () => {
  it('stores nothing of a large file that changed in between and was taken incrementally: it was cut as if it were new', async () => {
    write('survey', 12_000_000);
    await take('full', 'full', null, null);
    const file = fs.openSync(`${base}/source/survey`, 'r+');
    fs.writeSync(file, randomBytes(70_000), 0, 70_000, 5_000_000);
    fs.closeSync(file);
    const { root } = await take('one', 'incremental', 'full', 'full');
    expect(root.totals.fresh).toBeGreaterThan(500_000);
    expect(root.totals.fresh).toBeLessThan(8_500_000);
    const again = await take('two', 'full', 'one', null);
    expect(again.root.totals).toMatchObject({ read: 12_000_000, fresh: 0 });
  });

  it('says which files hold other bytes than the point before though nothing else tells so', async () => {
    write('still', 40_000);
    write('rotten', 40_000);
    const { root } = await take('full', 'full', null, null);
    // a point in which the file has the facts it has now, but held something else
    const writer = store.writer();
    const names = writer.put(randomBytes(40_000));
    const entries = [];
    for (const name of ['rotten', 'still']) entries.push(await store.trees.find(topEntry(root), name));
    const before = entries.map((e) => (e.name === 'rotten' ? { ...e, content: { names, lengths: [40_000] } } : e));
    const folder = writeFolder((data) => writer.put(data), before);
    await writer.finish();
    await store.commit({ ...root, taskId: 'before', top: encodeTop({ ...topEntry(root), folder }) });
    expect((await take('blind', 'incremental', 'before', 'before')).warnings).toEqual([]);
    const again = await take('two', 'full', 'before', null);
    expect(again.warnings).toEqual(['CHANGED_UNSEEN rotten']);
    expect((await take('three', 'full', 'two', null)).warnings).toEqual([]);
  });
});

describe('a fresh full', () => {
  it('stores everything again, and is read where the packs before it are gone or damaged', async () => {
    makeNastyTree(`${base}/source`);
    write('large', 3_000_000);
    const first = await take('full', 'full', null, null);
    const before = new Set(packs());
    const { root } = await take('fresh', 'full', 'full', null, 1000, true);
    expect(root.totals.fresh).toBe(first.root.totals.fresh);
    expect((await take('again', 'incremental', 'fresh', 'fresh')).root.totals).toMatchObject({ read: 0, fresh: 0 });
    for (const harm of ['damaged', 'gone'] as const) {
      for (const pack of before) {
        if (harm === 'gone') fs.rmSync(pack);
        else {
          const bytes = fs.readFileSync(pack);
          for (let at = 100; at < bytes.length; at += 997) bytes[at]! ^= 1;
          fs.writeFileSync(pack, bytes);
        }
      }
      expect(await readAllPoints(await Store.open(new DiskFolder(`${base}/store`), keyFile))).toEqual(['again', 'fresh', 'full']);
    }
  });
});

describe('a synthetic full', () => {
  it('is the newest point once more, with everything read again on the target and nothing of the source', async () => {
    makeNastyTree(`${base}/source`);
    await take('full', 'full', null, null, 500);
    write('late', 300_000);
    await take('one', 'incremental', 'full', 'full', 900);
    const newest = (await store.root('s1', 'one'))!.root;
    fs.rmSync(`${base}/source`, { recursive: true });
    const { root, again } = await take('made', 'synthetic', 'one', 'one', 5000);
    expect(root).toMatchObject({ kind: 'synthetic', base: 'one', moment: 900, totals: { read: 0, fresh: 0, stored: 0 } });
    expect([again!.chunks! > 10, again!.bytes > 300_000]).toEqual([true, true]);
    expect(root.top).toBe(newest.top);
    expect(await readAllPoints(await Store.open(new DiskFolder(`${base}/store`), keyFile))).toEqual(['full', 'made', 'one']);
  });

  it('is not made when anything it needs is damaged or gone', async () => {
    for (let i = 0; i < 4; i++) write(`file-${i}`, 200_000);
    await take('full', 'full', null, null);
    const [folder] = fs.readdirSync(`${base}/store/packs`);
    const pack = `${base}/store/packs/${folder}/${fs.readdirSync(`${base}/store/packs/${folder}`)[0]}`;
    const sound = fs.readFileSync(pack);
    const flipped = Buffer.from(sound);
    flipped[40]! ^= 4;
    for (const [harm, code] of [
      [
        () => {
          fs.writeFileSync(pack, flipped);
        },
        'OBJECT_DAMAGED',
      ],
      [
        () => {
          fs.rmSync(pack);
        },
        'OBJECT_MISSING',
      ],
    ] as const) {
      harm();
      store = await Store.open(new DiskFolder(`${base}/store`), keyFile);
      const error: unknown = await take('made', 'synthetic', 'full', 'full').catch((e: unknown) => e);
      expect(error).toBeInstanceOf(EngineError);
      expect((error as EngineError).code).toMatch(new RegExp(`${code}|CHUNK_MISSING`));
      expect(await store.root('s1', 'made')).toBeUndefined();
    }
    fs.writeFileSync(pack, sound);
    store = await Store.open(new DiskFolder(`${base}/store`), keyFile);
    expect((await take('made', 'synthetic', 'full', 'full')).root.kind).toBe('synthetic');
  });
});
