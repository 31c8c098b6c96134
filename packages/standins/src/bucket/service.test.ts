import { randomBytes } from 'node:crypto';
import { rmSync } from 'node:fs';
import { S3 } from '@aws-sdk/client-s3';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import { allFine, BucketService, rights, type Right } from '../index';

const folder = temporaryFolder('bucket');
const account = (accessKey: string, has: readonly Right[] = rights.filter((r) => r !== 'bypass')) => ({
  accessKey,
  secretKey: `${accessKey}-secret`,
  rights: has,
});
const accounts = [account('keeper'), account('chief', rights), account('reader', ['list', 'read'])];
let service: BucketService;
let now = Date.parse('2026-03-01T00:00:00Z');
let endpoint: string;
const day = 86_400_000;

const connect = (who = 'keeper', secret = `${who}-secret`) =>
  new S3({ endpoint, region: 'north', forcePathStyle: true, credentials: { accessKeyId: who, secretAccessKey: secret }, maxAttempts: 1 });
const start = async () => {
  service = new BucketService({ folder, accounts, now: () => now });
  endpoint = await service.start();
  return connect();
};
let s3: S3;
const names = async (Bucket: string, more: object = {}) => {
  const { Contents = [], CommonPrefixes = [] } = await s3.listObjectsV2({ Bucket, ...more });
  return [...Contents.map((o) => o.Key), ...CommonPrefixes.map((p) => p.Prefix)];
};
const text = async (Bucket: string, Key: string, more: object = {}) =>
  (await s3.getObject({ Bucket, Key, ...more })).Body!.transformToString();
const refused = (name: string) => expect.objectContaining({ name }) as Error;

beforeAll(async () => {
  s3 = await start();
  await s3.createBucket({ Bucket: 'plain' });
  await s3.createBucket({ Bucket: 'locked', ObjectLockEnabledForBucket: true });
});
afterAll(async () => {
  await service.stop();
  rmSync(folder, { recursive: true });
});

describe('the bucket stand-in, asked by the SDK', () => {
  it('keeps what it is given and hands it back, whole and in part', async () => {
    const data = randomBytes(300_000);
    const put = await s3.putObject({ Bucket: 'plain', Key: 'a/data', Body: data, Metadata: { kind: 'pack' } });
    expect(put.ETag).toMatch(/^"[0-9a-f]{32}"$/);
    const got = await s3.getObject({ Bucket: 'plain', Key: 'a/data' });
    expect(Buffer.compare(await got.Body!.transformToByteArray(), data)).toBe(0);
    expect(got.Metadata).toEqual({ kind: 'pack' });
    const part = await s3.getObject({ Bucket: 'plain', Key: 'a/data', Range: 'bytes=1000-1999' });
    expect(part.ContentRange).toBe('bytes 1000-1999/300000');
    expect(Buffer.compare(await part.Body!.transformToByteArray(), data.subarray(1000, 2000))).toBe(0);
    expect((await s3.headObject({ Bucket: 'plain', Key: 'a/data' })).ContentLength).toBe(300_000);
    await expect(s3.getObject({ Bucket: 'plain', Key: 'a/data', Range: 'bytes=400000-' })).rejects.toEqual(refused('InvalidRange'));
    await s3.putObject({ Bucket: 'plain', Key: 'empty', Body: '' });
    expect(await text('plain', 'empty')).toBe('');
  });

  it('takes large objects in parts, in any order, and forgets what was given up', async () => {
    const parts = [randomBytes(5 << 20), randomBytes(5 << 20), randomBytes(77)];
    const where = { Bucket: 'plain', Key: 'large' };
    const { UploadId } = await s3.createMultipartUpload(where);
    const sent = [];
    for (const PartNumber of [3, 1, 2])
      sent.push({ PartNumber, ETag: (await s3.uploadPart({ ...where, UploadId, PartNumber, Body: parts[PartNumber - 1]! })).ETag });
    expect(await names('plain', { Prefix: 'large' })).toEqual([]);
    await expect(s3.completeMultipartUpload({ ...where, UploadId, MultipartUpload: { Parts: sent } })).rejects.toEqual(
      refused('InvalidPartOrder'),
    );
    sent.sort((a, b) => a.PartNumber - b.PartNumber);
    const done = await s3.completeMultipartUpload({ ...where, UploadId, MultipartUpload: { Parts: sent } });
    expect(done.ETag).toMatch(/-3"$/);
    const back = await (await s3.getObject(where)).Body!.transformToByteArray();
    expect(Buffer.compare(back, Buffer.concat(parts))).toBe(0);
    const given = await s3.createMultipartUpload(where);
    await s3.abortMultipartUpload({ ...where, UploadId: given.UploadId });
    await expect(s3.uploadPart({ ...where, UploadId: given.UploadId, PartNumber: 1, Body: 'x' })).rejects.toEqual(refused('NoSuchUpload'));
  });

  it('lists names of any kind in the order of their bytes, by folder and by page', async () => {
    const odd = ['odd/a b', 'odd/a+b', 'odd/ü', 'odd/<&>"\'', 'odd/%41', 'odd/sub/1', 'odd/sub/2', 'odd/~(*)!', 'odd/日本'];
    for (const Key of odd) await s3.putObject({ Bucket: 'plain', Key, Body: Key });
    const sorted = [...odd].sort((a, b) => Buffer.from(a).compare(Buffer.from(b)));
    expect(await names('plain', { Prefix: 'odd/' })).toEqual(sorted);
    for (const Key of odd) expect(await text('plain', Key)).toBe(Key);
    expect(await names('plain', { Prefix: 'odd/', Delimiter: '/' })).toEqual([...sorted.filter((k) => !k.includes('sub')), 'odd/sub/']);
    const paged: unknown[] = [];
    for (let token: string | undefined, first = true; first || token; first = false) {
      const page = await s3.listObjectsV2({ Bucket: 'plain', Prefix: 'odd/', MaxKeys: 2, ...(token && { ContinuationToken: token }) });
      paged.push(...(page.Contents ?? []).map((o) => o.Key));
      token = page.NextContinuationToken;
    }
    expect(paged).toEqual(sorted);
  });

  it('creates only where nothing is, when it is asked to, whoever is first', async () => {
    const create = (Body: string) => s3.putObject({ Bucket: 'plain', Key: 'root', Body, IfNoneMatch: '*' });
    const tries = await Promise.allSettled(['one', 'two', 'three'].map(create));
    expect(tries.filter((t) => t.status === 'fulfilled')).toHaveLength(1);
    const winner = ['one', 'two', 'three'][tries.findIndex((t) => t.status === 'fulfilled')]!;
    expect(await text('plain', 'root')).toBe(winner);
    await expect(create('again')).rejects.toEqual(refused('PreconditionFailed'));
    expect(await text('plain', 'root')).toBe(winner);
  });

  it('keeps versions behind delete markers where that is switched on', async () => {
    await s3.createBucket({ Bucket: 'versions' });
    await s3.putBucketVersioning({ Bucket: 'versions', VersioningConfiguration: { Status: 'Enabled' } });
    const first = await s3.putObject({ Bucket: 'versions', Key: 'k', Body: 'first' });
    await s3.putObject({ Bucket: 'versions', Key: 'k', Body: 'second' });
    expect(await text('versions', 'k')).toBe('second');
    expect(await text('versions', 'k', { VersionId: first.VersionId })).toBe('first');
    expect((await s3.deleteObject({ Bucket: 'versions', Key: 'k' })).DeleteMarker).toBe(true);
    await expect(text('versions', 'k')).rejects.toEqual(refused('NoSuchKey'));
    const listed = await s3.listObjectVersions({ Bucket: 'versions' });
    expect([listed.Versions?.length, listed.DeleteMarkers?.length]).toEqual([2, 1]);
    await s3.deleteObject({ Bucket: 'versions', Key: 'k', VersionId: listed.DeleteMarkers![0]!.VersionId });
    expect(await text('versions', 'k')).toBe('second');
    const rest = await s3.listObjectVersions({ Bucket: 'versions' });
    const Objects = rest.Versions!.map((v) => ({ Key: v.Key, VersionId: v.VersionId }));
    expect((await s3.deleteObjects({ Bucket: 'versions', Delete: { Objects } })).Deleted).toHaveLength(2);
    await s3.deleteBucket({ Bucket: 'versions' });
    await expect(s3.listObjectsV2({ Bucket: 'versions' })).rejects.toEqual(refused('NoSuchBucket'));
  });

  it('never deletes what is locked before its date, whoever asks', async () => {
    const where = { Bucket: 'locked', Key: 'pack' };
    const until = new Date(now + 10 * day);
    const { VersionId } = await s3.putObject({
      ...where,
      Body: 'kept',
      ObjectLockMode: 'COMPLIANCE',
      ObjectLockRetainUntilDate: until,
    });
    const chief = connect('chief');
    for (const client of [s3, chief])
      await expect(client.deleteObject({ ...where, VersionId, BypassGovernanceRetention: true })).rejects.toEqual(refused('AccessDenied'));
    const shorter = { Mode: 'COMPLIANCE', RetainUntilDate: new Date(now + day) } as const;
    await expect(chief.putObjectRetention({ ...where, VersionId, Retention: shorter, BypassGovernanceRetention: true })).rejects.toEqual(
      refused('AccessDenied'),
    );
    const longer = { Mode: 'COMPLIANCE', RetainUntilDate: new Date(now + 20 * day) } as const;
    await s3.putObjectRetention({ ...where, VersionId, Retention: longer });
    expect((await s3.getObjectRetention(where)).Retention).toEqual(longer);
    await s3.deleteObject(where);
    expect(await text('locked', 'pack', { VersionId })).toBe('kept');
    now += 21 * day;
    await s3.deleteObject({ ...where, VersionId });
    await expect(text('locked', 'pack', { VersionId })).rejects.toEqual(refused('NoSuchVersion'));
  });

  it('lets governance be lifted only by those who may, and a hold by nobody until it is taken off', async () => {
    const where = { Bucket: 'locked', Key: 'held' };
    const retention = { Mode: 'GOVERNANCE', RetainUntilDate: new Date(now + day) } as const;
    const { VersionId } = await s3.putObject({ ...where, Body: 'x' });
    await s3.putObjectRetention({ ...where, Retention: retention });
    await expect(s3.deleteObject({ ...where, VersionId, BypassGovernanceRetention: true })).rejects.toEqual(refused('AccessDenied'));
    await s3.putObjectLegalHold({ ...where, LegalHold: { Status: 'ON' } });
    const chief = connect('chief');
    await expect(chief.deleteObject({ ...where, VersionId, BypassGovernanceRetention: true })).rejects.toEqual(refused('AccessDenied'));
    await s3.putObjectLegalHold({ ...where, LegalHold: { Status: 'OFF' } });
    expect((await s3.getObjectLegalHold(where)).LegalHold?.Status).toBe('OFF');
    await chief.deleteObject({ ...where, VersionId, BypassGovernanceRetention: true });
    await expect(s3.putObjectLegalHold({ Bucket: 'plain', Key: 'root', LegalHold: { Status: 'ON' } })).rejects.toEqual(
      refused('InvalidRequest'),
    );
  });

  it('answers only what is signed with the right key, and refuses what an account may not', async () => {
    await expect(connect('nobody').listBuckets()).rejects.toEqual(refused('InvalidAccessKeyId'));
    await expect(connect('keeper', 'wrong').listBuckets()).rejects.toEqual(refused('SignatureDoesNotMatch'));
    const reader = connect('reader');
    expect((await reader.listBuckets()).Buckets?.map((b) => b.Name)).toEqual(['plain', 'locked']);
    await expect(reader.putObject({ Bucket: 'plain', Key: 'x', Body: 'x' })).rejects.toEqual(refused('AccessDenied'));
    await expect(reader.deleteObject({ Bucket: 'plain', Key: 'root' })).rejects.toEqual(refused('AccessDenied'));
    expect((await fetch(`${endpoint}/plain/root`)).status).toBe(403);
    const page = await (await fetch(endpoint)).text();
    expect(page).toContain('odd/&#60;&#38;&#62;&#34;&#39;');
  });

  it('refuses a body that is not what its sum says, and keeps nothing of it', async () => {
    await expect(s3.putObject({ Bucket: 'plain', Key: 'bad', Body: 'x', ChecksumCRC32: 'AAAAAA==' })).rejects.toEqual(refused('BadDigest'));
    await expect(s3.putObject({ Bucket: 'plain', Key: 'bad', Body: 'x', ContentMD5: 'AAAAAAAAAAAAAAAAAAAAAA==' })).rejects.toEqual(
      refused('BadDigest'),
    );
    expect(await names('plain', { Prefix: 'bad' })).toEqual([]);
  });

  it('goes wrong where its switches say so', async () => {
    service.switches = { ...allFine, down: true };
    await expect(s3.listBuckets()).rejects.toEqual(refused('ServiceUnavailable'));
    service.switches = { ...allFine, fullAt: 1 };
    await expect(s3.putObject({ Bucket: 'plain', Key: 'full', Body: 'x' })).rejects.toEqual(refused('InsufficientStorage'));
    service.switches = { ...allFine, ignoreConditions: true };
    await s3.putObject({ Bucket: 'plain', Key: 'root', Body: 'replaced', IfNoneMatch: '*' });
    service.switches = allFine;
    expect(await text('plain', 'root')).toBe('replaced');
  });

  it('has everything again after it was started anew', async () => {
    const before = [await names('plain'), await names('locked')];
    await service.stop();
    s3 = await start();
    expect([await names('plain'), await names('locked')]).toEqual(before);
    expect(await text('plain', 'odd/ü')).toBe('odd/ü');
  });
});
