import fs from 'node:fs';
import { roles, type RouteName } from '@lithodex/contract';
import { BucketService, rights } from '@lithodex/standins';
import { Bucket } from '@lithodex/engine';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, passwords, policyFor, type Client, withRule, type PolicyChange } from '../support/harness';

let h: Harness;
let admin: Client;
let service: BucketService;
let endpoint: string;
let north: string;
let source: string;
let workloadId: number;
let targetId: string;
let policyId: number;
const day = 86_400_000;
const clock = { at: Date.now(), now: () => clock.at };
const keys = { accessKey: 'k', secretKey: 's' };

beforeAll(async () => {
  h = await Harness.start({ clock, leaseMs: 20_000, schedulerMs: 0 });
  admin = await h.as('administrator');
  service = new BucketService({ folder: `${h.folder}/bucket`, accounts: [{ ...keys, rights }] });
  endpoint = await service.start();
  service.makeBucket('safe', true);
  service.makeBucket('plain');
  ({ source, workloadId, targetId } = await h.connect(admin));
  const place = { kind: 'bucket' as const, endpoint, bucket: 'safe', ...keys };
  north = (await admin.call('addTarget', { body: { name: 'north-store', place } })).id;
});
afterAll(async () => {
  await service.stop();
  await h.stop();
});

const body = (more: PolicyChange = {}) =>
  policyFor([workloadId], targetId, {
    keep: { by: 'points', points: 1 },
    copies: [{ targetId: north, rhythm: 'every', keep: { by: 'points', points: 1 }, lockDays: 20 }],
    ...more,
  });
const points = async () => (await admin.call('workload', { id: workloadId })).pointList;
const standing = async () => (await points()).map((p) => p.copies.map((c) => `${c.target}${c.lockedUntil ? ' locked' : ''}`).join(' and '));

async function protect(content: string): Promise<void> {
  clock.at += 60_000;
  fs.writeFileSync(`${source}/tides`, content.repeat(3000));
  await admin.ended((await admin.call('runPolicy', { id: policyId, body: {} })).runId);
  await h.round();
}

async function restored(pointId: string): Promise<string> {
  const folder = `${h.folder}/back`;
  fs.rmSync(folder, { recursive: true, force: true });
  const picks = [{ pointId, path: '' }];
  const run = await admin.call('startRestore', { body: { picks, destination: { to: 'folder', folder }, reason: 'prove it' } });
  await admin.ended(run.runId);
  return fs.readFileSync(`${folder}/tides`, 'utf8').slice(0, 3);
}

describe('locked copies', () => {
  it('can be asked for only where there are locks', async () => {
    const place = { kind: 'bucket' as const, endpoint, bucket: 'plain', prefix: 'x/', locks: true, ...keys };
    const plain = (await admin.call('addTarget', { body: { name: 'plain', place } })).id;
    const copies = [{ targetId: plain, rhythm: 'every' as const, keep: { by: 'hand' as const }, lockDays: 5 }];
    await expect(admin.call('addPolicy', { body: body({ name: 'No', copies }) })).rejects.toThrow('plain is a bucket without object lock');
    const shown = (await admin.call('listTargets')).rows.map((t) => [
      t.name,
      t.place.kind === 'folder' || (t.place.kind === 'bucket' && t.place.locks),
    ]);
    expect(shown).toEqual([
      ['north-store', true],
      ['plain', false],
      ['quay-disk', true],
    ]);
    policyId = (await admin.call('addPolicy', { body: body() })).id;
  });

  it('stay until their date, whatever retention says, and say so', async () => {
    for (const content of ['one', 'two', 'six']) await protect(content);
    expect(await standing()).toEqual(['north-store locked', 'north-store locked', 'quay-disk and north-store locked']);
    const [oldest] = await points();
    expect(oldest!.copies[0]).toMatchObject({ lockedUntil: oldest!.moment + 20 * day, keepUntil: oldest!.moment + 20 * day });
    expect(oldest!.copies[0]!.keepWhy).toContain('locked');
    expect(await restored(oldest!.id)).toBe('one');
  });

  it('can not be removed early through the API by anybody', async () => {
    const before = await standing();
    const ids = (await points()).map((p) => p.id);
    const clients = [...(await Promise.all(roles.map((r) => h.as(r)))), ...(await Promise.all(roles.map((r) => h.withToken(r))))];
    const harsh = body({ keep: { by: 'points', points: 1 }, copies: [] });
    const attempts: [RouteName, { id?: string | number; body?: unknown }][] = [
      ...ids.map((id): [RouteName, { id: string }] => ['releasePoint', { id }]),
      ['changePolicy', { id: policyId, body: harsh }],
      [
        'changePolicy',
        {
          id: policyId,
          body: withRule(harsh, { copies: [{ ...body().rules[0]!.copies![0]!, keep: { by: 'days', days: 1 }, lockDays: null }] }),
        },
      ],
      ['pruneTarget', { id: north, body: {} }],
      ['removeSource', { id: (await admin.call('workload', { id: workloadId })).source.id }],
      ['removePolicy', { id: policyId }],
    ];
    for (const [name, options] of attempts) for (const client of clients) await client.fetch(name, options);
    for (const { id } of (await admin.call('listRequests')).rows) await (await h.second()).fetch('agreeRequest', { id });
    await h.round();
    clock.at += 10 * day;
    await h.round();
    expect(await standing()).toEqual(before);
    const { db } = h.server.deps;
    // what a database that was tampered with, or set back, would have a mover do
    await db('copy').where({ target_id: north }).update({ locked_until: null });
    const { run_id } = await db('task').where({ type: 'expire' }).first<{ run_id: number }>('run_id');
    const work = JSON.stringify({ targetId: north, points: ids });
    const id = '11111111-1111-4111-8111-111111111111';
    await db('task').insert({ id, run_id, type: 'expire', state: 'waiting', queued_at: clock.at, work });
    await h.round();
    const log = await db('log_line').where({ task_id: id }).select<{ code: string }[]>('code');
    expect(log.map((l) => l.code)).toEqual(ids.map(() => 'OBJECT_LOCKED'));
    await db('copy')
      .where({ target_id: north })
      .update({ state: 'present', locked_until: clock.at + 10 * day });
    await db('point').update({ state: 'visible' });
    expect(await restored(ids[0]!)).toBe('one');
  });

  it('outlive somebody with the keys of the bucket', async () => {
    const bucket = new Bucket({ kind: 'bucket', endpoint, region: 'r', bucket: 'safe', prefix: '', locks: true, ...keys });
    await bucket.ask('attack', async (s3) => {
      const { Versions = [] } = await s3.listObjectVersions({ Bucket: 'safe' });
      for (const { Key = '' } of Versions.filter((v) => /roots|packs/.test(v.Key ?? ''))) await s3.deleteObject({ Bucket: 'safe', Key });
    });
    const [oldest] = await points();
    await h.killMover('mover-1');
    h.startMover('mover-1');
    expect(await restored(oldest!.id)).toBe('one');
  });
});

describe('a second person', () => {
  let other: Client;
  let subject = '';

  beforeAll(async () => {
    other = await h.second();
    const point = (await points()).at(-1)!;
    subject = point.id;
    await admin.call('holdPoint', { id: point.id, body: { reason: 'evidence in a dispute' } });
  });
  const held = async () => (await points()).find((p) => p.id === subject)!.held;

  it('has to agree before a held point is let go, and can not be oneself, a token, another role or a new account', async () => {
    const { request } = await admin.call('releasePoint', { id: subject });
    expect(await held()).toBe(true);
    await expect(admin.call('releasePoint', { id: subject })).rejects.toThrow('waits for a second person already');
    const refusals = async (client: Client) =>
      client.call('agreeRequest', { id: request! }).then(
        () => 'done',
        (e: unknown) => (e as { code: string }).code,
      );
    expect(await refusals(admin)).toBe('SECOND_PERSON');
    expect(await refusals(await h.withToken('administrator'))).toBe('SECOND_PERSON');
    for (const role of ['operator', 'clerk', 'auditor'] as const) expect(await refusals(await h.as(role))).toBe('NOT_ALLOWED');
    await admin.call('addPerson', {
      body: { name: 'fresh.face', display: 'Fresh', role: 'administrator', password: passwords.administrator },
    });
    await h.server.deps.db('person').where({ name: 'fresh.face' }).update({ must_change: false });
    const { Client: Fresh } = await import('../support/harness');
    const fresh = new Fresh(() => h.base);
    await fresh.signIn('fresh.face', passwords.administrator);
    expect(await refusals(fresh)).toBe('SECOND_PERSON');
    expect(await held()).toBe(true);
    const watch = await admin.call('watch', { query: {} });
    expect(watch.matters.map((m) => m.title)).toContain('A second person is asked');
    expect(await refusals(other)).toBe('done');
    expect(await held()).toBe(false);
    expect(await refusals(other)).toBe('NOT_NOW');
    const trail = (await admin.call('audit', { query: { q: subject } })).rows.map((r) => [r.action, r.actor]);
    expect(trail.slice(0, 3)).toEqual([
      ['point.release', 'administrator, agreed by second'],
      ['request.agree', 'second'],
      ['request.ask', 'administrator'],
    ]);
  });

  it('can refuse, and who asked can withdraw; a request that nobody decides lapses', async () => {
    const ask = async () => {
      await admin.call('holdPoint', { id: subject, body: { reason: 'again' } });
      return (await admin.call('releasePoint', { id: subject })).request!;
    };
    const states = async () => (await admin.call('listRequests')).rows.slice(0, 1).map((r) => [r.state, r.decidedBy]);
    await other.call('refuseRequest', { id: await ask() });
    expect(await states()).toEqual([['refused', 'second']]);
    await admin.call('refuseRequest', { id: await ask() });
    expect(await states()).toEqual([['refused', 'administrator']]);
    const late = await ask();
    clock.at += 8 * day;
    expect(await states()).toEqual([['lapsed', null]]);
    await expect(other.call('agreeRequest', { id: late })).rejects.toMatchObject({ code: 'NOT_NOW' });
    expect(await held()).toBe(true);
    await expect((await h.withToken('administrator')).call('releasePoint', { id: subject })).rejects.toMatchObject({
      code: 'SECOND_PERSON',
    });
  });

  it('is not needed for what keeps more', async () => {
    await h.server.deps.db('policy').update({ ended: false });
    const { request } = await admin.call('changePolicy', { id: policyId, body: body({ name: 'Longer', keep: { by: 'hand' } }) });
    expect(request).toBeNull();
  });
});
