import { createHmac, randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { Config, hashPassword, openDatabase, runServer, tokenHash, type RunningServer } from '@lithodex/server';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openTestDatabase, type TestDatabase } from '../support/database';
import { Client } from '../support/harness';
import { temporaryFolder } from '../support/nasty-tree';

/** The last change of the tables before people had second factors, and tokens owners. */
const before = 28;
const folder = temporaryFolder('upgrade');
const sessionSecret = randomBytes(32).toString('hex');
const password = 'correct horse administrator';
let database: TestDatabase | undefined;
let server: RunningServer | undefined;
let base = '';
const [sid, csrf] = ['a-session-of-before', 'a-token-of-before'];
const tokens = { report: 'lxt_report-of-before', mover: 'lxt_mover-of-before' };

beforeAll(async () => {
  fs.chmodSync(folder, 0o755);
  database = await openTestDatabase(folder);
  const { settings } = database;
  const db = openDatabase(Config.parse({ sessionSecret, webDir: folder, database: settings }).database);
  for (let step = 0; step < before; step++) await db.migrate.up();
  await db('person').insert({
    id: 1,
    name: 'eva',
    display: 'Eva',
    role: 'administrator',
    password_hash: await hashPassword(password),
    created_at: 1,
  });
  const cookie = { originalMaxAge: 43_200_000, expires: new Date(Date.now() + 43_200_000), httpOnly: true, path: '/', sameSite: 'strict' };
  await db('session').insert({ sid, data: JSON.stringify({ cookie, personId: 1, csrf }), expires: Date.now() + 43_200_000 });
  await db('api_token').insert([
    { name: 'report', role: 'auditor', hash: tokenHash(tokens.report), created_at: 1 },
    { name: 'mover', role: 'mover', hash: tokenHash(tokens.mover), created_at: 1 },
  ]);
  const policy = {
    name: 'Nightly',
    workloads: [1],
    tags: [],
    zone: 'UTC',
    rules: [
      {
        no: 1,
        kind: 'incremental',
        schedule: { every: 'day', at: '22:00' },
        keep: { by: 'days', days: 36_500 },
        targetId: '00000000-0000-4000-8000-000000000001',
      },
    ],
  };
  await db('policy').insert({ id: 1, name: 'Nightly', body: JSON.stringify(policy) });
  await db('source').insert({ id: 1, name: 'quay-1', folder: Buffer.from('/srv'), location: '', cross_fs: false, created_at: 1 });
  await db('workload').insert({ id: 1, source_id: 1, name: 'quay-1', created_at: 1 });
  await db('target').insert({ id: policy.rules[0]!.targetId, name: 'quay-disk', folder: '/target', location: '', created_at: 1 });
  await db('series').insert({
    no: 1,
    id: '00000000-0000-4000-8000-000000000002',
    workload_id: 1,
    target_id: policy.rules[0]!.targetId,
    method: 'files',
    part: '',
    last_ordinal: 10,
  });
  const run = { kind: 'backup', started_by: 'schedule', policy_id: 1, name: 'Nightly', person: '', state: 'done', queued_at: 1 };
  await db('run').insert({ id: 1, ...run });
  const zeros = {
    items: 1,
    files: 1,
    bytes: 1,
    read_bytes: 1,
    fresh: 1,
    stored: 1,
    added: 0,
    changed: 0,
    removed: 0,
    warnings: 0,
    share: 0,
    unusual: 0,
  };
  const point = {
    id: '00000000-0000-4000-8000-000000000003',
    series_no: 1,
    workload_id: 1,
    run_id: 1,
    policy_id: 1,
    ordinal: 10,
    moment: 1000,
  };
  await db('point').insert({ ...point, kind: 'full', state: 'visible', complete: true, reasons: '[]', suspect: false, ...zeros });
  const expected = { items: 1, bytes: 1 };
  const inWait = { run_id: 1, workload_id: 1, state: 'waiting', queued_at: 1 };
  const places = { files: { rule: 'beside', stamp: 'then' }, machine: { platformId: 7, destination: { to: 'original', start: false } } };
  await db('task').insert([
    {
      ...inWait,
      id: '00000000-0000-4000-8000-000000000011',
      type: 'restore',
      work: JSON.stringify({ type: 'restore', picks: [], readFrom: null, trial: false, expected, ...places.files }),
    },
    {
      ...inWait,
      id: '00000000-0000-4000-8000-000000000012',
      type: 'machine',
      work: JSON.stringify({
        type: 'machine',
        pointId: point.id,
        files: ['disks/a.raw'],
        readFrom: null,
        trial: true,
        expected,
        ...places.machine,
      }),
    },
    {
      ...inWait,
      id: '00000000-0000-4000-8000-000000000013',
      type: 'machine',
      work: JSON.stringify({ type: 'machine', pointId: point.id, files: null, readFrom: null, trial: false, expected, ...places.machine }),
    },
  ]);
  await db('copy').insert({ point_id: point.id, target_id: policy.rules[0]!.targetId, state: 'present', made_at: 1000, stored: 1 });
  await db.destroy();
  server = await runServer(
    Config.parse({ port: 0, sessionSecret, webDir: folder, database: settings, logLevel: 'silent', schedulerMs: 0 }),
  );
  base = `http://127.0.0.1:${server.port}`;
});
afterAll(async () => {
  await server?.close();
  await database?.stop();
  fs.rmSync(folder, { recursive: true, force: true });
});

/** What is signed in by the session of before. */
function withOldSession(): Client {
  const signature = createHmac('sha256', sessionSecret).update(sid).digest('base64').replace(/=+$/, '');
  const client = new Client(() => base);
  client.useCookie(`lithodex=${encodeURIComponent(`s:${sid}.${signature}`)}`);
  return client;
}

describe('an installation of before', () => {
  it('lets its sessions, tokens and movers go on', async () => {
    expect(await withOldSession().call('me')).toMatchObject({ name: 'eva', csrf, idleMinutes: null });
    expect(await new Client(() => base, tokens.report).call('me')).toMatchObject({ role: 'auditor' });
    const hardware = { processors: 1, memory: 1, system: 'x' };
    const sample = { processor: 0, memory: 0, received: null, sent: null, read: null, written: null };
    await new Client(() => base, tokens.mover).call('beat', { body: { mover: 'old', hardware, sample } });
    expect((await withOldSession().call('listMovers')).rows).toMatchObject([{ name: 'old' }]);
    for (const route of ['claim', 'questions'] as const)
      expect(await (await new Client(() => base, tokens.mover).fetch(route, { body: { mover: 'old' } })).json()).toMatchObject({
        code: 'MOVER_OUTDATED',
        message: expect.stringContaining('Start the mover again with the version of the server') as string,
      });
    expect((await withOldSession().call('watch')).matters).toContainEqual(
      expect.objectContaining({ title: 'old is of another version than the server' }),
    );
    const { rows } = await withOldSession().call('listTokens');
    expect(rows).toMatchObject([{ name: 'report', owner: null, expiresAt: null }]);
    expect((await withOldSession().call('listMoverTokens')).rows).toMatchObject([
      { name: 'mover', duties: ['capture', 'keep', 'prune'], systems: null },
    ]);
  });

  it('asks nobody for a second factor who was not asked before, and says what to do where more is needed', async () => {
    const eva = new Client(() => base);
    await eva.signIn('eva', password);
    expect(await eva.call('signInSettings')).toMatchObject({ secondFor: [], organisation: null });
    const answer = await withOldSession().fetch('addToken', { body: { name: 'x', role: 'auditor' }, headers: { 'x-lithodex-csrf': csrf } });
    expect(await answer.json()).toMatchObject({ code: 'CONFIRM_FIRST' });
  });

  it('has its points promised what its policies say', async () => {
    const [copy] = await server!.deps.db('copy').select<{ promised_until: number }[]>();
    expect(copy!.promised_until).toBe(1000 + 36_500 * 86_400_000);
    const eva = new Client(() => base);
    await eva.signIn('eva', password);
    const { body } = await eva.call('getPolicy', { id: 1 });
    const shorter = { ...body, rules: [{ ...body.rules[0]!, keep: { by: 'days' as const, days: 1 } }] };
    const { request } = await eva.call('changePolicy', { id: 1, body: shorter });
    expect(request).not.toBeNull();
  });

  it('goes on with the restores that wait', async () => {
    const rows = await server!.deps.db('task').orderBy('id').select<{ type: string; work: unknown }[]>('type', 'work');
    const picks = (path: string) => [{ pointId: '00000000-0000-4000-8000-000000000003', path, to: '', base: '' }];
    const machine = { kind: 'machine', platformId: 7, destination: { to: 'original', start: false } };
    const common = { type: 'restore', readFrom: null, expected: { items: 1, bytes: 1 } };
    expect(rows.map((r) => [r.type, r.work])).toEqual([
      ['restore', { ...common, picks: [], trial: false, to: { kind: 'files', rule: 'beside', stamp: 'then' } }],
      ['restore', { ...common, picks: picks('disks/a.raw'), trial: true, to: machine }],
      ['restore', { ...common, picks: picks(''), trial: false, to: machine }],
    ]);
  });
});
