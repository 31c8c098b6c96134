import { closePools } from '@lithodex/connectors';
import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { Bucket, copyPoint, DiskFolder, prune, Store, verifyAndMend, type BucketPlace } from '@lithodex/engine';
import { BucketService, rights } from '@lithodex/standins';
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';
import { folderTree, quietly, readAllPoints } from '../../../../tests/support/store-kit';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import { takePoint } from './take-point';

let base: string;
const keyFile = randomBytes(32);
const stopped = () => false;
const day = 86_400_000;
const nobody = () => Promise.resolve(new Set<string>());
const open = (name: string) => Store.open(new DiskFolder(`${base}/${name}`), keyFile);
const pruned = (store: Store) => prune(store, { trial: false, stopped, alive: nobody });
const packs = async (store: Store) => (await store.target.listDeep('packs/')).map((name) => `packs/${name}`);

beforeEach(async () => {
  base = temporaryFolder('lock');
  for (const name of ['near', 'far', 'source']) fs.mkdirSync(`${base}/${name}`);
  const near = await Store.create(new DiskFolder(`${base}/near`), keyFile, new Date(0));
  await Store.create(new DiskFolder(`${base}/far`), keyFile, new Date(0), near.domain);
  fs.writeFileSync(`${base}/source/always`, randomBytes(600_000));
});
afterEach(async () => {
  vi.useRealTimers();
  await closePools();
  fs.rmSync(base, { recursive: true, force: true });
});

async function take(
  store: Store,
  taskId: string,
  lockedUntil: number | null,
  previous: string | null = null,
  onNotLocked: (why: string) => void = () => undefined,
): Promise<void> {
  for (const name of fs.readdirSync(`${base}/source`)) if (name !== 'always') fs.rmSync(`${base}/source/${name}`);
  fs.writeFileSync(`${base}/source/only-${taskId}`, randomBytes(700_000));
  const workload = { id: '1', name: 'w', source: 'w', path: `${base}/source` };
  const what = { from: folderTree(workload.path), include: [], exclude: [], lockedUntil };
  await takePoint(
    store,
    { taskId, seriesId: 's1', workload, kind: 'incremental', previous, moment: 0, ...what },
    { ...quietly, onNotLocked },
  );
}

describe('a locked point', () => {
  it('and all it needs stays until its date, whoever removes or prunes; then it can go', async () => {
    const until = Date.now() + 10 * day;
    await take(await open('near'), 't1', null);
    await take(await open('near'), 't2', until, 't1');
    const store = await open('near');
    expect((await store.root('s1', 't2'))!.root.lockedUntil).toBe(until);
    for (const name of ['lithodex-store.json', 'roots/lithodex-store.json'])
      expect(await store.target.lockedUntil(name)).toBeGreaterThanOrEqual(until);
    await expect(store.removeRoot('s1', 't2')).rejects.toMatchObject({ code: 'OBJECT_LOCKED' });
    await expect(store.target.remove('roots/s1/t2')).rejects.toMatchObject({ code: 'OBJECT_LOCKED' });
    await store.removeRoot('s1', 't1');
    const report = await pruned(store);
    expect(report.rewrittenPacks).toBe(0);
    expect(await readAllPoints(await open('near'))).toEqual(['t2']);
    for (const name of await packs(store)) await expect(store.target.remove(name)).rejects.toMatchObject({ code: 'OBJECT_LOCKED' });

    // a root that somebody removed behind our back leaves locked packs, which stay until their own end
    fs.rmSync(`${base}/near/roots/s1/t2`);
    await pruned(await open('near'));
    expect((await packs(await open('near'))).length).toBeGreaterThan(0);
    vi.useFakeTimers({ toFake: ['Date'], now: until + 8 * day });
    await pruned(await open('near'));
    expect(await packs(await open('near'))).toEqual([]);
  });

  it('makes the locks of packs longer that it shares with earlier points', async () => {
    const near = Date.now() + 3 * day;
    await take(await open('near'), 't1', near);
    const before = await packs(await open('near'));
    const far = Date.now() + 100 * day;
    await take(await open('near'), 't2', far, 't1');
    const store = await open('near');
    const ends = await Promise.all(before.map((name) => store.target.lockedUntil(name)));
    expect(Math.max(...ends)).toBeGreaterThanOrEqual(far);
    const shared = store.reader.locate((await contentOf(store, 't2', 'always'))!);
    expect(
      await store.target.lockedUntil(`packs/${shared.packId.toString('hex').slice(0, 2)}/${shared.packId.toString('hex')}`),
    ).toBeGreaterThanOrEqual(far);
    // the end of a shared lock is rounded up, so the next point of that week locks nothing again
    const records = (await store.target.list('locks/')).length;
    await take(await open('near'), 't3', far + 1000, 't2');
    expect((await (await open('near')).target.list('locks/')).length).toBe(records + 1);
  });

  it('is locked as a copy too, and again in what is written when it is healed', async () => {
    const until = Date.now() + 10 * day;
    await take(await open('near'), 't1', null);
    const far = await open('far');
    await copyPoint(await open('near'), far, { seriesId: 's1', taskId: 't1', copyTask: 'c1', lockedUntil: until, now: () => 5, stopped });
    expect((await far.root('s1', 't1'))!.root.lockedUntil).toBe(until);
    await expect(far.removeRoot('s1', 't1')).rejects.toMatchObject({ code: 'OBJECT_LOCKED' });
    const old = await packs(far);
    for (const name of old) {
      fs.chmodSync(`${base}/far/${name}`, 0o600);
      fs.writeFileSync(`${base}/far/${name}`, 'spoiled');
      fs.chmodSync(`${base}/far/${name}`, 0o400);
    }
    const expected = [{ seriesId: 's1', taskId: 't1', lockedUntil: until }];
    const options = { copyTask: 'mending', now: () => 9, stopped, expected, walk: true };
    const report = await verifyAndMend(await open('far'), [{ name: 'near', open: () => open('near') }], options);
    expect(report).toMatchObject({ lost: 0 });
    const healed = await open('far');
    expect(await readAllPoints(healed)).toEqual(['t1']);
    const fresh = (await packs(healed)).filter((name) => !old.includes(name));
    expect(fresh.length).toBeGreaterThan(0);
    for (const name of fresh) expect(await healed.target.lockedUntil(name)).toBeGreaterThanOrEqual(until);
  });

  it('is taken without its lock where the target refuses it, and says so', async () => {
    const service = new BucketService({ folder: `${base}/plain`, accounts: [{ accessKey: 'keeper', secretKey: 'secret', rights }] });
    const endpoint = await service.start();
    service.makeBucket('plain');
    try {
      const place = {
        kind: 'bucket' as const,
        endpoint,
        region: 'r',
        bucket: 'plain',
        prefix: '',
        accessKey: 'keeper',
        secretKey: 'secret',
        locks: false,
      };
      await Store.create(new Bucket(place), keyFile, new Date(0));
      const said: string[] = [];
      await take(await Store.open(new Bucket(place), keyFile), 't1', Date.now() + day, null, (why) => said.push(why));
      expect(said).toEqual([expect.stringContaining('no object lock')]);
      const after = await Store.open(new Bucket(place), keyFile);
      expect((await after.root('s1', 't1'))!.root.lockedUntil).toBeUndefined();
      expect(await readAllPoints(after)).toEqual(['t1']);
    } finally {
      await service.stop();
    }
  });

  it('in a bucket outlives somebody who has the same keys and wants it gone', async () => {
    const service = new BucketService({ folder: `${base}/service`, accounts: [{ accessKey: 'keeper', secretKey: 'secret', rights }] });
    const endpoint = await service.start();
    service.makeBucket('safe', true);
    try {
      const place: BucketPlace = {
        kind: 'bucket',
        endpoint,
        region: 'r',
        bucket: 'safe',
        prefix: 'p/',
        accessKey: 'keeper',
        secretKey: 'secret',
        locks: true,
      };
      await Store.create(new Bucket(place), keyFile, new Date(0));
      await take(await Store.open(new Bucket(place), keyFile), 't1', Date.now() + 10 * day);
      const bucket = new Bucket(place);
      await bucket.ask('attack', async (s3) => {
        const { Versions = [] } = await s3.listObjectVersions({ Bucket: 'safe' });
        for (const { Key = '', VersionId } of Versions) {
          await s3.putObject({ Bucket: 'safe', Key, Body: 'rubbish' });
          await s3.deleteObject({ Bucket: 'safe', Key });
          const gone = await s3.deleteObject({ Bucket: 'safe', Key, VersionId }).then(
            () => true,
            () => false,
          );
          expect([Key, gone]).toEqual([Key, /index|locks/.test(Key)]);
        }
      });
      const options = { copyTask: 'mending', now: () => 9, stopped, expected: [{ seriesId: 's1', taskId: 't1' }], walk: true };
      const report = await verifyAndMend(await Store.open(new Bucket(place), keyFile), [], options);
      expect(report.lost).toBe(0);
      expect(await readAllPoints(await Store.open(new Bucket(place), keyFile))).toEqual(['t1']);
    } finally {
      await service.stop();
    }
  });
});

async function contentOf(store: Store, taskId: string, name: string): Promise<Buffer | undefined> {
  const { topEntry } = await import('@lithodex/engine');
  const { root } = (await store.root('s1', taskId))!;
  const content = (await store.trees.find(topEntry(root), name)).content;
  return content && 'names' in content ? content.names.subarray(0, 32) : undefined;
}
