import { closePools } from '@lithodex/connectors';
import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { affected, DiskFolder, Store, verify, type LostItem } from '@lithodex/engine';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import { folderTree, quietly } from '../../../../tests/support/store-kit';
import { takePoint } from './take-point';

let base: string;
const keyFile = randomBytes(32);
const open = () => Store.open(new DiskFolder(`${base}/store`), keyFile);
const stopped = () => false;

beforeAll(async () => {
  base = temporaryFolder('verify');
  fs.mkdirSync(`${base}/store`);
  fs.mkdirSync(`${base}/source/plans`, { recursive: true });
  const store = await Store.create(new DiskFolder(`${base}/store`), keyFile, new Date(0));
  const workload = { id: '1', name: 'w', source: 'w', path: `${base}/source` };
  const what = { from: folderTree(workload.path), include: [], exclude: [] };
  let previous: string | null = null;
  for (const taskId of ['t1', 't2']) {
    fs.writeFileSync(`${base}/source/same`, Buffer.alloc(40_000, 'same'));
    fs.writeFileSync(`${base}/source/plans/own`, randomBytes(30_000));
    await takePoint(
      store,
      { taskId, seriesId: 's1', workload, kind: previous ? 'incremental' : 'full', previous, moment: 0, ...what },
      quietly,
    );
    previous = taskId;
  }
  await closePools();
});
afterAll(() => {
  fs.rmSync(base, { recursive: true, force: true });
});

/** What verification says: damaged objects, then the items of the points that have lost something. */
async function findings(): Promise<{ objects: string[]; items: string[] }> {
  const store = await open();
  const { damages, lost } = await verify(store, { stopped });
  const items: LostItem[] = [];
  for await (const item of affected(store, lost, stopped)) items.push(item);
  return { objects: [...new Set(damages.map((d) => d.object))], items: items.map((i) => `${i.taskId} ${i.whole} ${i.path}`).sort() };
}

const files = (kind: string) =>
  fs
    .readdirSync(`${base}/store/${kind}`, { recursive: true, encoding: 'utf8' })
    .map((n) => `${kind}/${n}`)
    .filter((n) => fs.statSync(`${base}/store/${n}`).isFile());

/** Runs `look` while a file of the store is changed. */
async function damaged(name: string, change: (data: Buffer) => Buffer | undefined, look: () => Promise<void>): Promise<void> {
  const at = `${base}/store/${name}`;
  const good = fs.readFileSync(at);
  const bad = change(Buffer.from(good));
  if (bad) fs.writeFileSync(at, bad);
  else fs.rmSync(at);
  try {
    await look();
  } finally {
    fs.writeFileSync(at, good);
  }
}

describe('verification', () => {
  it('finds nothing in a sound store, and reads all of it', async () => {
    const store = await open();
    let read = 0;
    const report = await verify(store, { stopped, onPack: (bytes) => (read += bytes) });
    expect(report).toMatchObject({ packs: files('packs').length, damages: [], bytes: read });
    expect(read).toBe(files('packs').reduce((sum, n) => sum + fs.statSync(`${base}/store/${n}`).size, 0));
    expect((await findings()).items).toEqual([]);
  });

  it('finds a flipped bit anywhere in any pack, and names the object', async () => {
    for (const name of files('packs')) {
      const { size } = fs.statSync(`${base}/store/${name}`);
      const places = new Set([
        0,
        10,
        30,
        size - 1,
        size - 10,
        ...Array.from({ length: 25 }, (_, i) => Math.floor((size * (i + 0.5)) / 25)),
      ]);
      for (const at of places)
        await damaged(
          name,
          (data) => {
            data[at] = data[at]! ^ (1 << (at % 8));
            return data;
          },
          async () => {
            expect([at, (await findings()).objects]).toEqual([at, [name]]);
          },
        );
    }
  });

  it('finds a pack that is cut or gone, and says which points and items need it', async () => {
    const need = new Map<string, string[]>();
    for (const name of files('packs')) {
      await damaged(
        name,
        (data) => data.subarray(0, 60),
        async () => {
          expect((await findings()).objects).toEqual([name]);
        },
      );
      await damaged(
        name,
        () => undefined,
        async () => {
          const found = await findings();
          expect(found.objects).toEqual([name]);
          need.set(name, found.items);
        },
      );
    }
    const all = [...need.values()].flat();
    expect(all).toContain('t2 item plans/own');
    expect(all.some((i) => i.startsWith('t1 '))).toBe(true);
    expect([...need.values()].every((items) => items.length > 0)).toBe(true);
  });

  it('says which point is gone when its root is damaged', async () => {
    await damaged(
      'roots/s1/t2',
      (data) => {
        data[60] = data[60]! ^ 1;
        return data;
      },
      async () => {
        expect((await findings()).items).toEqual(['t2 point ']);
      },
    );
  });

  it('reads a part of the packs each time, all of them in one round', async () => {
    const store = await open();
    let packs = 0;
    for (let part = 0; part < 7; part++)
      packs += (await verify(store, { stopped, reads: (id) => Number.parseInt(id.slice(0, 4), 16) % 7 === part })).packs;
    expect(packs).toBe(files('packs').length);
    await expect(verify(store, { stopped: () => true })).rejects.toMatchObject({ code: 'STOPPED' });
  });
});
