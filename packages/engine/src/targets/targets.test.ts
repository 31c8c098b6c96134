import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { allFine, BucketService, LibraryService, rights, type Right } from '@lithodex/standins';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import { Bucket } from './bucket';
import type { BucketPlace } from './place';
import { checkBucket } from './bucket-check';
import { Cartridges } from './cartridges';
import { DiskFolder } from './disk-folder';
import type { Target } from './target';

const base = temporaryFolder('targets');
const has = (accessKey: string, list: readonly Right[]) => ({ accessKey, secretKey: 'secret', rights: list });
const service = new BucketService({
  folder: `${base}/bucket`,
  accounts: [
    has('keeper', rights),
    has('reader', ['list', 'read']),
    has('keepsall', ['list', 'read', 'write']),
    has('nolock', ['list', 'read', 'write', 'delete', 'admin']),
  ],
});
const library = new LibraryService({ folder: `${base}/library`, token: 'let me in', drives: 1, slots: 400 });
let libraryAt = '';
let place: BucketPlace;
let round = 0;

beforeAll(async () => {
  libraryAt = await library.start();
  const endpoint = await service.start();
  service.makeBucket('store');
  service.makeBucket('versions', true);
  place = {
    kind: 'bucket',
    endpoint,
    region: 'north',
    bucket: 'store',
    prefix: 'deep/er/',
    accessKey: 'keeper',
    secretKey: 'secret',
    locks: false,
  };
});
beforeEach(() => {
  round++;
  service.switches = allFine;
});
afterAll(async () => {
  await service.stop();
  await library.stop();
  fs.rmSync(base, { recursive: true });
});

const kinds: [string, () => Target][] = [
  [
    'a disk folder',
    () => {
      fs.mkdirSync(`${base}/disk-${round}`);
      return new DiskFolder(`${base}/disk-${round}`);
    },
  ],
  ['a bucket', () => new Bucket({ ...place, prefix: `round-${round}/` })],
  ['a bucket that keeps versions', () => new Bucket({ ...place, bucket: 'versions', prefix: `round-${round}/` })],
  ['a bucket that locks', () => new Bucket({ ...place, bucket: 'versions', prefix: `locks-${round}/`, locks: true })],
  [
    'a set of cartridges',
    () => {
      for (const n of [1, 2]) library.library.addNew(`R${round}N${n}`, 21 << 20);
      return new Cartridges({
        kind: 'cartridges',
        endpoint: libraryAt,
        token: 'let me in',
        barcodes: `R${round}N`,
        folder: `${base}/set-${round}`,
      });
    },
  ],
];

describe.each(kinds)('%s as a target', (kind, open) => {
  it('gives back what was put, whole and in part, and replaces it', async () => {
    const target = open();
    const data = randomBytes(20 << 20);
    await target.put('packs/ab/large', data);
    expect(Buffer.compare(await target.read('packs/ab/large'), data)).toBe(0);
    expect(Buffer.compare(await target.readRange('packs/ab/large', 9_000_000, 1000), data.subarray(9_000_000, 9_001_000))).toBe(0);
    await target.put('packs/ab/large', Buffer.from('short'));
    target.close();
    expect((await target.read('packs/ab/large')).toString()).toBe('short');
    await expect(target.readRange('packs/ab/large', 3, 10)).rejects.toMatchObject({ code: 'OBJECT_DAMAGED' });
    await expect(target.readRange('packs/ab/large', 30, 10)).rejects.toMatchObject({ code: 'OBJECT_DAMAGED' });
    // where versions are locked and on cartridges, what was replaced goes on taking room
    const keepsAll = ['a bucket that locks', 'a set of cartridges'].includes(kind);
    expect((await target.room()).used).toBe(keepsAll ? data.length + 5 : 5);
  });

  it('lists what lies directly below a name, and nothing of what was removed', async () => {
    const target = open();
    for (const name of ['roots/b', 'roots/a/1', 'roots/a/2', 'roots/ab', 'other']) await target.put(name, Buffer.from(name));
    expect(await target.list('roots/')).toEqual(['a', 'ab', 'b']);
    await target.remove('roots/a/1');
    expect(await target.list('roots/a/')).toEqual(['2']);
    await target.remove('roots/a/2');
    await target.remove('roots/a/2');
    await target.remove('roots/ab');
    expect((await target.list('roots/')).filter((n) => n !== 'a')).toEqual(['b']);
    expect(await target.list('none/')).toEqual([]);
    await expect(target.read('roots/ab')).rejects.toMatchObject({ code: 'OBJECT_MISSING' });
    await expect(target.readRange('roots/ab', 0, 1)).rejects.toMatchObject({ code: 'OBJECT_MISSING' });
  });

  it('lets one of many create a name', async () => {
    const target = open();
    const tries = await Promise.all(Array.from({ length: 8 }, (_x, i) => target.putExclusive('roots/one', Buffer.from(`by ${i}`))));
    expect(tries.filter(Boolean)).toHaveLength(1);
    expect((await target.read('roots/one')).toString()).toBe(`by ${tries.indexOf(true)}`);
    expect(await target.putExclusive('roots/one', Buffer.from('late'))).toBe(false);
  });
});

describe.each([kinds[0]!, kinds[3]!])('%s that locks', (_, open) => {
  it('lets nobody remove what is locked before its end, and makes a lock longer but never shorter', async () => {
    const target = open();
    const soon = Date.now() + 3_600_000;
    await target.put('packs/ab/x', Buffer.from('kept'));
    expect(await target.lockedUntil('packs/ab/x')).toBe(0);
    await target.lock('packs/ab/x', soon);
    await target.lock('packs/ab/x', soon + 5000);
    await target.lock('packs/ab/x', soon - 5000);
    expect(await target.lockedUntil('packs/ab/x')).toBe(soon + 5000);
    await expect(target.remove('packs/ab/x')).rejects.toMatchObject({ code: 'OBJECT_LOCKED' });
    expect(await target.putExclusive('roots/a/t', Buffer.from('root'), soon)).toBe(true);
    expect(await target.putExclusive('roots/a/t', Buffer.from('other'), soon)).toBe(false);
    await expect(target.remove('roots/a/t')).rejects.toMatchObject({ code: 'OBJECT_LOCKED' });
    expect((await target.read('roots/a/t')).toString()).toBe('root');
    await target.putExclusive('roots/a/past', Buffer.from('root'), Date.now() - 1000);
    await target.remove('roots/a/past');
    expect(await target.list('roots/a/')).toEqual(['t']);
    await expect(target.lock('packs/ab/none', soon)).rejects.toMatchObject({ code: 'OBJECT_MISSING' });
  });
});

describe('a bucket', () => {
  it('goes on giving what is locked when somebody with the same keys deletes it or puts something over it', async () => {
    const locking = { ...place, bucket: 'versions', prefix: `attacked-${round}/`, locks: true };
    const target = new Bucket(locking);
    const until = Date.now() + 3_600_000;
    for (const name of ['hidden', 'covered']) {
      await target.putExclusive(`roots/a/${name}`, Buffer.from(name), until);
      expect(await target.lockedUntil(`roots/a/${name}`)).toBe(until);
    }
    const key = (name: string) => ({ Bucket: 'versions', Key: `${locking.prefix}roots/a/${name}` });
    await target.ask('attack', async (s3) => {
      await s3.deleteObject(key('hidden'));
      await s3.putObject({ ...key('covered'), Body: 'rubbish' });
      const { Versions } = await s3.listObjectVersions({ Bucket: 'versions', Prefix: key('hidden').Key });
      await expect(s3.deleteObject({ ...key('hidden'), VersionId: Versions![0]!.VersionId })).rejects.toMatchObject({
        name: 'AccessDenied',
      });
    });
    expect(await target.list('roots/a/')).toEqual(['covered', 'hidden']);
    expect((await target.read('roots/a/hidden')).toString()).toBe('hidden');
    expect((await target.read('roots/a/covered')).toString()).toBe('rubbish');
    expect(await target.reveal('roots/a/covered')).toBe(true);
    expect((await target.read('roots/a/covered')).toString()).toBe('covered');
    expect(await target.reveal('roots/a/covered')).toBe(false);
    await expect(new Bucket(place).lock('x', until)).rejects.toMatchObject({ code: 'TARGET_REFUSED' });
  });

  it('is tested for its locks where it has some', async () => {
    const check = await checkBucket({ ...place, bucket: 'versions' });
    expect(check).toMatchObject({ locks: true, needs: check.needs.map((n) => ({ ...n, problem: '' })) });
    expect(check.needs.map((n) => n.right)).toContain('Lock objects');
    expect((await checkBucket(place)).locks).toBe(false);
    const without = await checkBucket({ ...place, bucket: 'versions', accessKey: 'nolock' });
    expect(without.needs.filter((n) => n.problem).map((n) => n.right)).toEqual(['Lock objects']);
  });

  it('tells what it lacks, right by right, and leaves nothing behind', async () => {
    const fine = await checkBucket(place);
    expect(fine.needs.map((n) => n.problem)).toEqual(fine.needs.map(() => ''));
    expect(fine.holdsStore).toBe(false);
    const missing = async (more: Partial<BucketPlace>) =>
      (await checkBucket({ ...place, ...more })).needs.filter((n) => n.problem).map((n) => n.right);
    expect(await missing({ accessKey: 'keepsall' })).toEqual(['Delete objects']);
    expect(await missing({ accessKey: 'reader' })).toContain('Write objects');
    expect(await missing({ secretKey: 'wrong' })).toHaveLength(6);
    service.switches = { ...allFine, ignoreConditions: true };
    expect(await missing({})).toEqual(['Create only where nothing is']);
    await expect(checkBucket({ ...place, bucket: 'nowhere' })).rejects.toMatchObject({ code: 'TARGET_MISSING' });
    await expect(checkBucket({ ...place, endpoint: 'http://127.0.0.1:9' })).rejects.toMatchObject({ code: 'TARGET_MISSING' });
    const own = new Bucket({ ...place, accessKey: 'keeper' });
    for (const name of await own.list('check/')) await own.remove(`check/${name}`);
    expect((await own.room()).used).toBe(0);
  });

  it('holds out while the service is slow or refuses now and then, and says when it is full or gone', async () => {
    const target = new Bucket({ ...place, prefix: `round-${round}/` });
    service.switches = { ...allFine, latencyMs: 20, refuseEvery: 3 };
    for (let i = 0; i < 10; i++) await target.put(`x/${i}`, Buffer.from(String(i)));
    expect(await target.list('x/')).toHaveLength(10);
    service.switches = { ...allFine, fullAt: 1 };
    await expect(target.put('x/full', Buffer.from('x'))).rejects.toMatchObject({ code: 'TARGET_FULL' });
    await expect(target.put('x/full', randomBytes(9 << 20))).rejects.toMatchObject({ code: 'TARGET_FULL' });
    service.switches = { ...allFine, down: true };
    await expect(target.read('x/1')).rejects.toMatchObject({ code: 'TARGET_REFUSED' });
    service.switches = allFine;
    expect((await target.read('x/1')).toString()).toBe('1');
  });
});
