import { closePools } from '@lithodex/connectors';
import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { copyPoint, DiskFolder, EngineError, prune, Store, verify, verifyAndMend } from '@lithodex/engine';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { FailingFolder, folderTree, quietly, readAllPoints } from '../../../../tests/support/store-kit';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import { takePoint } from './take-point';

let base: string;
const keyFile = randomBytes(32);
const stopped = () => false;
const open = (name: string) => Store.open(new FailingFolder(`${base}/${name}`), keyFile);

beforeEach(async () => {
  base = temporaryFolder('copy');
  for (const name of ['near', 'far', 'source/plans', 'source/still']) fs.mkdirSync(`${base}/${name}`, { recursive: true });
  const near = await Store.create(new DiskFolder(`${base}/near`), keyFile, new Date(0));
  await Store.create(new DiskFolder(`${base}/far`), keyFile, new Date(0), near.domain);
  for (let i = 0; i < 30; i++) fs.writeFileSync(`${base}/source/still/${i}`, randomBytes(5000));
  for (const taskId of ['t1', 't2', 't3']) await take(taskId);
});
afterEach(async () => {
  await closePools();
  fs.rmSync(base, { recursive: true, force: true });
});

async function take(taskId: string): Promise<void> {
  const store = await open('near');
  fs.writeFileSync(`${base}/source/plans/own-${taskId}`, randomBytes(700_000));
  if (taskId === 't3') fs.rmSync(`${base}/source/plans/own-t1`);
  const workload = { id: '1', name: 'w', source: 'w', path: `${base}/source` };
  const what = { from: folderTree(workload.path), include: [], exclude: [] };
  const previous = taskId === 't1' ? null : `t${Number(taskId[1]) - 1}`;
  await takePoint(store, { taskId, seriesId: 's1', workload, kind: 'incremental', previous, moment: 0, ...what }, quietly);
}

const copy = (from: Store, to: Store, taskId: string, more: { copyTask?: string; alike?: string } = {}) =>
  copyPoint(from, to, { seriesId: 's1', taskId, copyTask: 'c1', now: () => 5, stopped, ...more });

const files = (name: string) =>
  fs
    .readdirSync(`${base}/${name}`, { recursive: true, encoding: 'utf8' })
    .filter((n) => fs.statSync(`${base}/${name}/${n}`).isFile())
    .sort();

describe('copies of points', () => {
  it('are whole by themselves, and only what is missing travels', async () => {
    const [near, far] = [await open('near'), await open('far')];
    const first = await copy(near, far, 't2');
    expect(first.moved).toBeGreaterThan(1_500_000);
    expect(first.root).toMatchObject({ taskId: 't2', copied: { from: near.header.targetId, at: 5 } });
    const second = await copy(near, far, 't3', { alike: 't2' });
    expect(second.moved).toBeGreaterThan(700_000);
    expect(second.moved).toBeLessThan(800_000);
    expect(second.chunks).toBeLessThan(first.chunks);
    expect((await copy(near, far, 't3', { copyTask: 'c2' })).adopted).toBe(true);
    fs.rmSync(`${base}/near`, { recursive: true });
    expect(await readAllPoints(await open('far'))).toEqual(['t2', 't3']);
    expect(files('far').filter((n) => n.startsWith('roots/s1'))).toEqual(['roots/s1/t2.c1', 'roots/s1/t3.c1']);
    expect(files('far').filter((n) => n.startsWith('pins'))).toEqual([]);
  });

  it('are whole or not there when the target fails at any change, and go on from what was stored', async () => {
    const near = await open('near');
    for (let failAt = 1; ; failAt++) {
      const far = await open('far');
      (far.target as FailingFolder).failAt = failAt;
      const failed = await copy(near, far, 't3', { copyTask: `c${failAt}` }).catch((error: unknown) => error);
      const listed = await readAllPoints(await open('far'));
      if (!(failed instanceof EngineError)) {
        expect(listed).toEqual(['t3']);
        expect(failAt).toBeGreaterThan(3);
        return;
      }
      expect(listed.length).toBeLessThanOrEqual(1);
      const again = await open('far');
      await again.removeRoot('s1', 't3');
    }
  });

  it('refuse a target of another domain, a point that is not there, and to commit once they were given up', async () => {
    const near = await open('near');
    fs.mkdirSync(`${base}/other`);
    const other = await Store.create(new DiskFolder(`${base}/other`), keyFile, new Date(0));
    await expect(copy(near, other, 't1')).rejects.toMatchObject({ code: 'DOMAIN_DIFFERS' });
    const far = await open('far');
    await expect(copy(near, far, 'none')).rejects.toMatchObject({ code: 'OBJECT_MISSING' });
    await far.pins.pin('slept', 'roots/s1/t1.slept');
    await prune(far, { trial: false, stopped, alive: () => Promise.resolve(new Set<string>()) });
    await expect(copy(near, far, 't1', { copyTask: 'slept' })).rejects.toMatchObject({ code: 'TASK_GIVEN_UP' });
    await copy(near, far, 't1', { copyTask: 'awake' });
    await far.removeRoot('s1', 't1');
    expect(files('far').filter((n) => n.startsWith('roots/s1'))).toEqual(['roots/s1/t1.slept']);
  });

  it('give what is lost on the target one reads from', async () => {
    const [near, far] = [await open('near'), await open('far')];
    for (const taskId of ['t1', 't2', 't3']) await copy(near, far, taskId);
    for (const name of files('near').filter((n) => n.startsWith('packs'))) fs.writeFileSync(`${base}/near/${name}`, 'spoiled');
    const spoiled = await open('near');
    await expect(readAllPoints(spoiled)).rejects.toThrow();
    spoiled.reader.elsewhere = (name) => far.reader.read(name);
    expect(await readAllPoints(spoiled)).toEqual(['t1', 't2', 't3']);
  });
});

describe('healing', () => {
  const nobody = () => Promise.resolve(new Set<string>());

  it('mends every file of a store that is flipped, cut or gone, from another copy', async () => {
    const [near, far] = [await open('near'), await open('far')];
    for (const taskId of ['t1', 't2', 't3']) await copy(near, far, taskId);
    fs.cpSync(`${base}/far`, `${base}/good`, { recursive: true });
    const spoil: ((data: Buffer) => Buffer | undefined)[] = [
      (data) => {
        data[Math.floor(data.length / 2)]! ^= 4;
        return data;
      },
      (data) => data.subarray(0, data.length - 3),
      () => undefined,
    ];
    let mended = 0;
    for (const name of files('good'))
      for (const [how, change] of spoil.entries()) {
        fs.rmSync(`${base}/far`, { recursive: true });
        fs.cpSync(`${base}/good`, `${base}/far`, { recursive: true });
        const bad = change(fs.readFileSync(`${base}/good/${name}`));
        if (bad) fs.writeFileSync(`${base}/far/${name}`, bad);
        else fs.rmSync(`${base}/far/${name}`);
        const sick = await open('far');
        const expected = ['t1', 't2', 't3'].map((taskId) => ({ seriesId: 's1', taskId }));
        const options = { copyTask: 'mending', now: () => 9, stopped, expected, walk: true };
        const report = await verifyAndMend(sick, [{ name: 'near', open: () => open('near') }], options);
        expect([name, how, report.lost]).toEqual([name, how, 0]);
        if (report.damages.length || report.fetched) mended++;
        const after = await open('far');
        expect([name, how, await readAllPoints(after)]).toEqual([name, how, ['t1', 't2', 't3']]);
        await prune(after, { trial: false, stopped, alive: nobody });
        const clean = await open('far');
        expect((await verify(clean, { stopped })).damages).toEqual([]);
        expect(await readAllPoints(clean)).toEqual(['t1', 't2', 't3']);
      }
    expect(mended).toBe(files('good').length * spoil.length);
  });
});
