import { randomBytes } from 'node:crypto';
import { setTimeout } from 'node:timers/promises';
import type { BodyInput } from '@lithodex/contract';
import { usePrice } from '@lithodex/core';
import { BucketPoint, type BucketAddress } from '@lithodex/kinds';
import { allFine } from '@lithodex/standins';
import { afterAll, afterEach, beforeAll, describe, expect, it } from 'vitest';
import { itLong, rounds } from '../support/by-command';
import { Harness, policyFor, type Client } from '../support/harness';
import { ObjectStorage, objectSecret } from '../support/object-storage';

let h: Harness;
let admin: Client;
let storage: ObjectStorage;
let targetId: string;
let systemId: number;
const reason = 'somebody deleted a survey';
const large = randomBytes(37 << 20);
const odd = ['a', 'a/b', 'a-1', 'd/', 'd//x', '//', '../keys', './x', 'é/🚢', '~2f', 'a b+c%20d', "(it's)*!", `${'long/'.repeat(200)}k`];

const address = (more: Partial<BucketAddress> = {}): BodyInput<'addSystem'>['address'] => ({
  kind: 'bucket',
  endpoint: storage.endpoint,
  accessKey: 'keeper',
  accessLists: true,
  ...more,
});
const body = (more: Partial<BucketAddress> = {}, secret: string | null = objectSecret): BodyInput<'addSystem'> => ({
  name: 'surveys',
  address: address(more),
  secret,
});
const idOf = async (name: string) => (await admin.call('estate', { query: {} })).workloads.find((w) => w.name === name)!.id;
const take = async (name: string) => {
  const run = await admin.ended((await admin.call('protectOnce', { id: await idOf(name), body: { targetId } })).runId);
  const point = (await admin.call('workload', { id: await idOf(name) })).pointList.at(-1)!;
  return { run, point, facts: BucketPoint.parse(point.facts) };
};
const restore = async (pointId: string, paths: string[], more: Partial<BodyInput<'startRestore'>> = {}) => {
  const asked = { picks: paths.map((path) => ({ pointId, path })), destination: { to: 'original' as const }, reason, ...more };
  return admin.ended((await admin.call('startRestore', { body: asked })).runId);
};
const said = async ({ id }: { id: number }, q: string) => (await admin.call('runLog', { id, query: { q } })).rows.length;

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 4000 });
  admin = await h.as('administrator');
  ({ targetId } = await h.connect(admin));
  storage = await ObjectStorage.start(
    `${h.folder}/objects`,
    ['sonar-surveys', 'empty-one', 'many-small', 'removed-one'],
    [{ accessKey: 'lister', secretKey: objectSecret, rights: ['list'] }],
  );
  for (const key of odd) await storage.put('sonar-surveys', key, `this is ${key}`);
  await storage.put('sonar-surveys', 'berth-14/large.bin', large);
  await storage.put('sonar-surveys', 'berth-14/empty', '');
  await storage.put('sonar-surveys', 'berth-14/notes.html', '<p>sonar</p>', {
    ContentType: 'text/html; charset=utf-8',
    CacheControl: 'max-age=60',
    ContentDisposition: 'attachment; filename="notes.html"',
    ContentLanguage: 'nb',
    Metadata: { vessel: 'Tern', 'depth-m': '14' },
    Tagging: 'quay=north%20side&kind=survey',
    GrantRead: 'uri="http://acs.example/groups/pilots"',
    StorageClass: 'STANDARD_IA',
  });
}, 60_000);
afterEach(() => {
  storage.service.switches = allFine;
});
afterAll(async () => {
  await storage.stop();
  await h.stop();
});

describe('an object storage', () => {
  it('is tested right by right, and not saved where it refuses', async () => {
    const good = await admin.call('testSystem', { body: { body: body() } });
    expect(good).toMatchObject({ ok: true, found: 4 });
    expect(good.needs.every((n) => !n.missing)).toBe(true);
    const poor = await admin.call('testSystem', { body: { body: body({ accessKey: 'lister' }) } });
    expect(poor.needs.filter((n) => n.missing).map((n) => n.right)).toEqual(
      expect.arrayContaining(['Read objects of sonar-surveys', 'Read tags of objects of sonar-surveys']),
    );
    await expect(admin.call('addSystem', { body: body({}, 'wrong') })).rejects.toMatchObject({ code: 'CONNECTION_FAULTY' });
    await expect(admin.call('addSystem', { body: body({ endpoint: 'file:///etc' }) })).rejects.toMatchObject({ code: 'INVALID' });
    const operator = await h.as('operator');
    await expect(operator.call('addSystem', { body: body() })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
    ({ id: systemId } = await admin.call('addSystem', { body: body() }));
    const estate = (await admin.call('estate', { query: {} })).workloads.filter((w) => w.kind === 'bucket');
    expect(estate.map((w) => w.name).sort()).toEqual(['empty-one', 'many-small', 'removed-one', 'sonar-surveys']);
    expect(estate.find((w) => w.name === 'sonar-surveys')!.facts).toMatchObject({
      objects: odd.length + 3,
      versioning: 'off',
      more: false,
    });
  });

  it('keeps its secret to the address it was given for, and shows it to nobody', async () => {
    const elsewhere = admin.call('changeSystem', { id: systemId, body: body({ endpoint: 'http://127.0.0.1:9' }, null) });
    await expect(elsewhere).rejects.toMatchObject({ code: 'INVALID' });
    await admin.call('changeSystem', { id: systemId, body: body({}, null) });
    const shown = JSON.stringify([await admin.call('listSystems'), await admin.call('audit', { query: {} })]);
    expect(shown).not.toContain(objectSecret);
  });
});

describe('a bucket', () => {
  it('is taken whole, whatever its keys are, with all that is known of each object', async () => {
    const { run, facts, point } = await take('sonar-surveys');
    expect(run.state).toBe('done');
    expect(facts).toMatchObject({
      bucket: 'sonar-surveys',
      objects: odd.length + 3,
      classes: { STANDARD: odd.length + 2, STANDARD_IA: 1 },
    });
    expect(facts.asked.reads).toBe(odd.length + 2 + 3);
    const before = await storage.described('sonar-surveys');
    await storage.remove('sonar-surveys', ...Object.keys(before));
    const back = await restore(point.id, ['']);
    expect(back).toMatchObject({ state: 'done' });
    expect(await storage.described('sonar-surveys')).toEqual(before);
    const { Body } = await storage.s3.getObject({ Bucket: 'sonar-surveys', Key: 'berth-14/large.bin' });
    expect(Buffer.from(await Body!.transformToByteArray()).equals(large)).toBe(true);
  });

  it('is read again only where something changed', async () => {
    await take('sonar-surveys');
    await setTimeout(1100);
    await storage.put('sonar-surveys', 'a/b', 'changed');
    await storage.put('sonar-surveys', 'a/new', 'added');
    await storage.remove('sonar-surveys', 'berth-14/empty');
    const { facts, point } = await take('sonar-surveys');
    expect(facts.asked.reads).toBe(2);
    expect(point).toMatchObject({ added: 1, changed: 1, removed: 1, items: expect.any(Number) as number });
    const same = await take('sonar-surveys');
    expect(same.facts.asked).toMatchObject({ reads: 0, facts: 2, lists: 1 });
  });

  it('gives single objects and prefixes back, by the rule that was chosen, also elsewhere', async () => {
    const { point } = await take('sonar-surveys');
    await storage.put('sonar-surveys', 'a/b', 'the newest');
    const text = async (bucket: string, Key: string) => (await storage.s3.getObject({ Bucket: bucket, Key })).Body!.transformToString();
    await restore(point.id, ['a~/b']);
    expect(await text('sonar-surveys', 'a/b')).toBe('the newest');
    await restore(point.id, ['a~/b'], { rule: 'beside' });
    const beside = Object.keys(await storage.described('sonar-surveys')).filter((k) => k.startsWith('a/b (restored'));
    expect(beside).toHaveLength(1);
    expect(await text('sonar-surveys', beside[0]!)).toBe('changed');
    const replaced = await restore(point.id, ['a~/b'], { rule: 'replace', rescue: true });
    expect(replaced.state).toBe('done');
    expect(await text('sonar-surveys', 'a/b')).toBe('changed');
    const to = { to: 'bucket' as const, systemId, bucket: 'made-anew', prefix: 'back/', class: 'STANDARD_IA' };
    const plan = await admin.call('planRestore', {
      body: { name: 'x', picks: [{ pointId: point.id, path: 'berth-14' }], destination: to },
    });
    expect(plan.checks.filter((c) => c.level === 'stop').map((c) => c.code)).toEqual(['NO_BUCKET']);
    const made = await restore(point.id, ['berth-14'], { destination: { ...to, make: true } });
    expect(made.state).toBe('done');
    const there = await storage.described('made-anew');
    expect(Object.keys(there).sort()).toEqual(['back/berth-14/large.bin', 'back/berth-14/notes.html']);
    expect(there['back/berth-14/notes.html']).toMatchObject({ class: 'STANDARD_IA', meta: { 'x-amz-meta-vessel': 'Tern' } });
    const again = await restore(point.id, ['berth-14'], { destination: to, rule: 'replace' });
    expect(await said(again, '2 there already')).toBe(1);
    const trial = await restore(point.id, ['berth-14'], { destination: { ...to, prefix: 'other/' }, trial: true });
    expect(trial.state).toBe('done');
    expect(Object.keys(await storage.described('made-anew'))).toHaveLength(2);
    const clerk = await h.as('clerk');
    const asked = { picks: [{ pointId: point.id, path: 'berth-14' }], destination: to, reason };
    await expect(clerk.call('startRestore', { body: asked })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
  });

  it('that was emptied with all its versions by somebody who may is still in its points', async () => {
    await storage.s3.putBucketVersioning({ Bucket: 'sonar-surveys', VersioningConfiguration: { Status: 'Enabled' } });
    await storage.put('sonar-surveys', 'survey/one', 'first');
    await storage.put('sonar-surveys', 'survey/one', 'second');
    const { point, facts } = await take('sonar-surveys');
    expect(facts.versioning).toBe('on');
    const { Versions = [] } = await storage.s3.listObjectVersions({ Bucket: 'sonar-surveys', Prefix: 'survey/' });
    expect(Versions).toHaveLength(2);
    for (const v of Versions) await storage.s3.deleteObject({ Bucket: 'sonar-surveys', Key: v.Key!, VersionId: v.VersionId! });
    expect(await storage.described('sonar-surveys')).not.toHaveProperty('survey/one');
    await restore(point.id, ['survey']);
    const { Body } = await storage.s3.getObject({ Bucket: 'sonar-surveys', Key: 'survey/one' });
    expect(await Body!.transformToString()).toBe('second');
  });

  it('says of what it could not read, and keeps what it had of it', async () => {
    await storage.put('sonar-surveys', 'cold', 'frozen before anybody read it', { StorageClass: 'GLACIER' });
    const { run, point } = await take('sonar-surveys');
    expect(run.state).toBe('partsMissing');
    const entry = (await admin.call('tree', { id: point.id, query: { path: '' } })).rows.find((e) => e.name === 'cold');
    expect(entry).toMatchObject({ unread: true });
    const refused = await restore(point.id, ['cold'], { rule: 'replace' });
    expect(refused.state).toBe('partsMissing');
    await storage.remove('sonar-surveys', 'cold');
  });

  it('is taken through a service that slows down, and fails with its cause where it is gone', async () => {
    for (let i = 0; i < 40; i++) await storage.put('many-small', `k${i}`, `number ${i}`);
    storage.service.switches = { ...allFine, refuseEvery: 4 };
    const { run, facts } = await take('many-small');
    expect(run.state).toBe('done');
    expect(facts.objects).toBe(40);
    storage.service.switches = allFine;
    await storage.s3.deleteBucket({ Bucket: 'removed-one' });
    const { runId } = await admin.call('protectOnce', { id: await idOf('removed-one'), body: { targetId } });
    expect((await admin.ended(runId)).tasks[0]).toMatchObject({ state: 'failed', cause: { code: 'BUCKET_GONE' } });
    await admin.call('readSystem', { id: systemId });
    // without points there is nothing left to be known of it
    expect((await admin.call('estate', { query: {} })).workloads.some((w) => w.name === 'removed-one')).toBe(false);
  });

  itLong('fails with its cause where its service stays away', async () => {
    storage.service.switches = { ...allFine, down: true };
    const { runId } = await admin.call('protectOnce', { id: await idOf('many-small'), body: { targetId } });
    const failed = await admin.ended(runId, 200_000);
    expect(failed.tasks[0]).toMatchObject({ state: 'failed', cause: { code: 'BUCKET_AWAY' } });
  });

  const small = Array.from({ length: rounds(150, 300) }, (_, i) => `f/${i}`);
  it('becomes a whole point after kill -9 of the mover', async () => {
    await Promise.all(small.map((key) => storage.put('many-small', key, randomBytes(20_000))));
    storage.service.switches = { ...allFine, latencyMs: 60 };
    const { id } = await admin.call('addPolicy', { body: policyFor([await idOf('many-small')], targetId) });
    const { runId } = await admin.call('runPolicy', { id, body: {} });
    await setTimeout(700);
    await h.killMover('mover-1');
    storage.service.switches = allFine;
    h.startMover('mover-2');
    expect((await admin.ended(runId)).state).toBe('done');
    const before = await storage.described('many-small');
    await storage.remove('many-small', ...small);
    const point = (await admin.call('workload', { id: await idOf('many-small') })).pointList.at(-1)!;
    await restore(point.id, ['']);
    expect(await storage.described('many-small')).toEqual(before);
  }, 120_000);

  itLong('is brought back whole, nothing of it twice, after kill -9 of the mover that does it', async () => {
    const before = await storage.described('many-small');
    await storage.remove('many-small', ...small);
    storage.service.switches = { ...allFine, latencyMs: 30 };
    const point = (await admin.call('workload', { id: await idOf('many-small') })).pointList.at(-1)!;
    const asked = { picks: [{ pointId: point.id, path: '' }], destination: { to: 'original' as const }, reason };
    const restoring = await admin.call('startRestore', { body: asked });
    await setTimeout(500);
    await h.killMover('mover-2');
    storage.service.switches = allFine;
    h.startMover('mover-3');
    expect((await admin.ended(restoring.runId)).state).toBe('done');
    expect(await storage.described('many-small')).toEqual(before);
  });

  it('costs what is told of its runs: what the service would bill for a month of nights', async () => {
    const { bill } = storage.service;
    const prices = { currency: 'EUR', perGbMonth: 0.02, perGbRead: 0.05, perThousandLists: 0.005, perThousandReads: 0.0004 };
    const put = (n: number) => storage.put('empty-one', `night ${n}`, randomBytes(3000 + 100 * n), n % 3 ? {} : { Tagging: 'kind=night' });
    let billed = 0;
    for (let night = 0; night < rounds(10, 30); night++) {
      for (let n = 0; n < 7; n++) await put(night * 7 + n);
      const before = { ...bill };
      await take('empty-one');
      const [lists, others, bytes] = [bill.lists - before.lists, bill.others - before.others, bill.bytes - before.bytes];
      billed += lists * (0.005 / 1000) + others * (0.0004 / 1000) + bytes * (0.05 / 1e9);
    }
    const use = (await admin.call('storageUse', { id: systemId })).rows.find((r) => r.workload.name === 'empty-one')!;
    expect(use.runs).toBe(rounds(10, 30));
    expect(Math.abs(usePrice(use, prices) / billed - 1)).toBeLessThan(0.02);
    const clerk = await h.as('clerk');
    await expect(clerk.call('storageUse', { id: systemId })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
  }, 120_000);
});
