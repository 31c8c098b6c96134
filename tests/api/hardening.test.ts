import fs from 'node:fs';
import { moverLanguage } from '@lithodex/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { issueToken } from '@lithodex/server';
import { Client, Harness, policyFor } from '../support/harness';

let h: Harness;
let admin: Client;
const own = { workloadId: 0, source: '' };
const other = { workloadId: 0, source: '' };
let targetId = '';
let policyId = 0;
let runId = 0;

beforeAll(async () => {
  h = await Harness.start();
  admin = await h.as('administrator');
  const a = await h.connect(admin, 'own-server');
  const b = await h.connect(admin, 'other-server');
  Object.assign(own, a);
  Object.assign(other, b);
  ({ targetId } = a);
  for (const { source } of [own, other]) fs.writeFileSync(`${source}/letter.txt`, 'x');
  policyId = (await admin.call('addPolicy', { body: policyFor([own.workloadId, other.workloadId], targetId) })).id;
  runId = (await admin.call('runPolicy', { id: policyId, body: {} })).runId;
  await admin.ended(runId);
  await h.server.deps
    .db('person')
    .where({ name: 'clerk' })
    .update({ remit: JSON.stringify([own.workloadId]) });
});
afterAll(() => h.stop());

const codeOf = (call: Promise<unknown>) =>
  call.then(
    () => 'OK',
    (e: unknown) => (e as { code: string }).code,
  );

describe('a clerk', () => {
  it('sees the own part of a run in its rows, tasks, sums, log, rates and file', async () => {
    const clerk = await h.as('clerk');
    const run = await clerk.call('getRun', { id: runId });
    expect(run.tasks.map((t) => t.workload.name)).toEqual(['own-server']);
    expect([run.workloadCount, run.counts.files]).toEqual([1, 1]);
    const [row] = (await clerk.call('listRuns', { query: {} })).rows;
    expect([row!.workloads.map((w) => w.name), row!.counts.files]).toEqual([['own-server'], 1]);
    const log = await clerk.call('runLog', { id: runId, query: {} });
    expect(new Set(log.rows.map((l) => l.workload))).toEqual(new Set(['own-server']));
    expect(log.total).toBe(log.rows.length);
    const file = await (await clerk.fetch('runLogFile', { id: runId })).text();
    expect(file).toContain('own-server');
    expect(file).not.toContain('other-server');
    const all = await admin.call('runRates', { id: runId });
    const part = await clerk.call('runRates', { id: runId });
    const sum = (list: readonly number[]) => list.reduce((x, y) => x + y, 0);
    expect(sum(part.written)).toBeLessThan(sum(all.written));
  });

  it('hears of the own workloads, and not that there are others', async () => {
    const clerk = await h.as('clerk');
    const answer = await clerk.fetch('events');
    const reader = answer.body!.pipeThrough(new TextDecoderStream()).getReader();
    await reader.read();
    const { events } = h.server.deps;
    await events.emit('point', { workloadId: other.workloadId });
    await events.emit('policy');
    await events.emit('request');
    await events.emit('point', { workloadId: own.workloadId });
    const { value = '' } = await reader.read();
    expect(value).toContain(`"workloadId":${own.workloadId}`);
    expect(value).not.toContain(`"workloadId":${other.workloadId}`);
    expect(value).not.toContain('policy');
    await reader.cancel();
  });
});

describe('a second person', () => {
  it('is nobody whose account the asker made or changed, nor one that such an account made', async () => {
    const { db } = h.server.deps;
    const make = async (by: Client, name: string) => {
      const { id } = await by.call('addPerson', {
        body: { name, display: name, role: 'administrator', password: 'seven crooked bollards' },
      });
      await db('person').where({ id }).update({ must_change: false, created_at: 0 });
      const client = new Client(() => h.base);
      await client.signIn(name, 'seven crooked bollards');
      return { id, client };
    };
    const first = await make(admin, 'made.first');
    const second = await make(first.client, 'made.second');
    const point = (await admin.call('workload', { id: own.workloadId })).pointList[0]!;
    await admin.call('holdPoint', { id: point.id, body: { reason: 'evidence' } });
    const { request } = await admin.call('releasePoint', { id: point.id });
    for (const { client } of [first, second]) {
      expect(await codeOf(client.call('agreeRequest', { id: request! }))).toBe('SECOND_PERSON');
      expect((await client.call('listRequests')).rows[0]!.notByMe).toContain('made or changed your account');
    }
    await admin.call('refuseRequest', { id: request! });
    // another role takes a second person, and whoever agreed had a hand in it too
    const { id } = await admin.call('addPerson', {
      body: { name: 'to.rise', display: 'To Rise', role: 'operator', password: 'seven crooked bollards' },
    });
    const asked = await admin.call('changePerson', { id, body: { display: 'To Rise', role: 'administrator', remit: null } });
    const role = async () => (await admin.call('listPeople')).rows.find((p) => p.id === id)!.role;
    expect(await role()).toBe('operator');
    await h.agree(asked);
    expect(await role()).toBe('administrator');
  });

  it('sees what would change, and is asked again when it would take more by then', async () => {
    const { body } = await admin.call('getPolicy', { id: policyId });
    const harsh = { ...body, rules: [{ ...body.rules[0]!, keep: { by: 'days' as const, days: 1 } }] };
    const { request } = await admin.call('changePolicy', { id: policyId, body: harsh });
    const shown = (await (await h.second()).call('listRequests')).rows.find((r) => r.id === request)!;
    expect(shown.difference!.before.rules[0]!.keep).toEqual({ by: 'days', days: 14 });
    expect(shown.difference!.after.rules[0]!.keep).toEqual({ by: 'days', days: 1 });
    await admin.ended((await admin.call('runPolicy', { id: policyId, body: {} })).runId);
    await expect(h.agree({ request })).rejects.toMatchObject({ code: 'NOT_NOW' });
    expect((await (await h.second()).call('listRequests')).rows.find((r) => r.id === request)).toMatchObject({ state: 'waiting' });
    await h.agree({ request });
    expect((await admin.call('getPolicy', { id: policyId })).body.rules[0]!.keep).toEqual({ by: 'days', days: 1 });
  });
});

describe('the token of a mover', () => {
  it('tells only what its task is for', async () => {
    await h.killMover('mover-1');
    const pruner = new Client(() => h.base, await issueToken(h.server.deps, 'pruner', 'mover', 'setup', { duties: ['prune'] }));
    await admin.call('pruneTarget', { id: targetId, body: {} });
    const { task } = await pruner.call('claim', { body: { mover: 'pruner', speaks: moverLanguage } });
    expect(task!.work.type).toBe('prune');
    const { id, attempt } = task!;
    const totals = { items: 1, files: 1, bytes: 1, read: 1, fresh: 1, stored: 1, warnings: 0 };
    const changes = { before: 0, added: 0, changed: 0, removed: 0, random: 0, turnedRandom: 0, renamed: 0 };
    const uuid = '00000000-0000-4000-8000-00000000000a';
    const point = {
      ...totals,
      moment: 1,
      kind: 'full' as const,
      previous: null,
      base: null,
      lockedUntil: null,
      machine: null,
      taskId: uuid,
      seriesId: uuid,
      workload: { name: 'forged', source: 'forged', path: '/forged' },
    };
    const forged = [
      () => pruner.call('adoptPoint', { id, body: { attempt, point } }),
      () => pruner.call('pointAdopted', { id, body: { attempt, point, changes } }),
      () => pruner.call('sendItems', { id, body: { attempt, seq: 0, changes: [] } }),
      () => pruner.call('commitPoint', { id, body: { attempt, pointId: uuid, point: { ...point, complete: true, changes } } }),
      () => pruner.call('pointCopied', { id, body: { attempt, pointId: uuid, stored: 1, lockedUntil: null } }),
      () => pruner.call('sendRestored', { id, body: { attempt, seq: 0, items: [] } }),
    ];
    for (const call of forged) expect(await codeOf(call())).toBe('NOT_ALLOWED');
    expect(await h.server.deps.db('source').where({ name: 'forged' }).first()).toBeUndefined();
  });

  it('is listed, and good for nothing once it is withdrawn, also while it waits', async () => {
    const mover = new Client(() => h.base, await issueToken(h.server.deps, 'to be withdrawn', 'mover', 'setup'));
    const waiting = [
      mover.call('claim', { body: { mover: 'late', speaks: moverLanguage } }),
      mover.call('questions', { body: { mover: 'late', speaks: moverLanguage } }),
      // both end at once, whichever is looked at first
    ].map((call) => codeOf(call));
    await new Promise((resume) => setTimeout(resume, 300));
    const { rows } = await admin.call('listMoverTokens');
    expect(rows.map((r) => r.name)).toContain('mover');
    const row = rows.find((r) => r.name === 'to be withdrawn')!;
    await admin.call('removeMoverToken', { id: row.id });
    expect(await Promise.all(waiting)).toEqual(['NOT_SIGNED_IN', 'NOT_SIGNED_IN']);
    expect(h.server.deps.movers.present()).not.toContain('late');
    expect(await codeOf(mover.call('claim', { body: { mover: 'late', speaks: moverLanguage } }))).toBe('NOT_SIGNED_IN');
  });

  it('of one that only captures is given the credentials of the systems it was given, and answers no questions of others', async () => {
    const capture = new Client(() => h.base, await issueToken(h.server.deps, 'capture', 'mover', 'setup', { duties: ['capture'] }));
    const stranger = new Client(() => h.base, await issueToken(h.server.deps, 'stranger', 'mover', 'setup'));
    // it was there lately, so that what only it may answer waits for it
    const seen = await stranger
      .fetch('questions', { body: { mover: 'stranger', speaks: moverLanguage }, signal: AbortSignal.timeout(300) })
      .catch(() => null);
    expect(seen).toBeNull();
    const asked = capture.call('questions', { body: { mover: 'capture', speaks: moverLanguage } });
    await new Promise((resume) => setTimeout(resume, 200));
    const secret = admin.call('testPlatform', {
      body: { body: { name: 'x', endpoint: 'http://127.0.0.1:9', opener: { by: 'password', account: 'a', password: 'a secret' } } },
    });
    const plain = admin.call('testSource', { body: { name: 'y', folder: '/srv' } });
    const { id, question } = await asked;
    expect(question).toMatchObject({ ask: 'probe' });
    // another mover's answer is not heard
    const answer = { ok: true, findings: [], looked: 0, complete: true };
    await stranger.call('answer', { id: id!, body: { ok: true, answer: { ...answer, looked: 99 } } });
    await capture.call('answer', { id: id!, body: { ok: true, answer } });
    expect(await plain).toMatchObject({ looked: 0 });
    const taken = await stranger.call('questions', { body: { mover: 'stranger', speaks: moverLanguage } });
    expect(taken.question).toMatchObject({ ask: 'platformTest' });
    await stranger.call('answer', { id: taken.id!, body: { ok: true, answer: 'no answer at all' } });
    expect(await codeOf(secret)).toBe('MOVER_FAILED');
  });
});

describe('a kept secret', () => {
  it('goes to the address it was given for only, and a test of a connection is in the trail', async () => {
    h.startMover('mover-1');
    await h.moverReady();
    const { db, secrets } = h.server.deps;
    const [id] = (await db('source').insert({
      name: 'Kept',
      kind: 'platform',
      folder: Buffer.alloc(0),
      location: '',
      cross_fs: false,
      created_at: 0,
    })) as [number];
    const opener = { by: 'password', account: 'keeper', password: 'open sesame' };
    await db('source')
      .where({ id })
      .update({
        address: JSON.stringify({ endpoint: 'http://127.0.0.1:9', by: 'password', account: 'keeper' }),
        secret: secrets.seal(`source ${id}`, JSON.stringify(opener)),
      });
    const test = (endpoint: string) => codeOf(admin.call('testPlatform', { body: { id, body: { name: 'Kept', endpoint, opener: null } } }));
    expect(await test('http://127.0.0.1:10')).toBe('INVALID');
    expect(await codeOf(admin.call('changePlatform', { id, body: { name: 'Kept', endpoint: 'http://127.0.0.1:10', opener: null } }))).toBe(
      'INVALID',
    );
    expect(await test('http://127.0.0.1:9')).toBe('OK');
    const trail = (await admin.call('audit', { query: { q: 'source.test' } })).rows;
    expect(trail[0]).toMatchObject({ object: `source ${id}` });
    expect(JSON.stringify(trail)).not.toContain('open sesame');
  });
});

describe('the trail, and what is answered', () => {
  it('is not broken by any text, and text that is not well formed is refused', async () => {
    const broken = { name: 'half \ud800', role: 'auditor' as const };
    expect(await codeOf(admin.call('addToken', { body: broken }))).toBe('INVALID');
    await new Client(() => h.base).fetch('signIn', { body: { name: `${'x'.repeat(59)}\ud83c`, password: 'x' } });
    await new Client(() => h.base).fetch('signIn', { body: { name: 'é'.repeat(60), password: 'x' } });
    const auditor = await h.as('auditor');
    await codeOf(auditor.call('stopRun', { id: runId }));
    await auditor.call('signOut');
    const { rows } = await admin.call('audit', { query: { limit: 20 } });
    expect(rows.map((r) => [r.actor, r.action])).toEqual(
      expect.arrayContaining([
        ['auditor', 'access.refused'],
        ['auditor', 'session.end'],
      ]),
    );
    expect(await admin.call('checkAudit')).toMatchObject({ intact: true });
  });

  it('is kept by no cache, and no name begins a line of a log', async () => {
    const answer = await admin.fetch('me');
    expect(answer.headers.get('cache-control')).toBe('no-store');
    await h.server.deps.db('workload').where({ id: own.workloadId }).update({ name: 'own\nFAULT  forged' });
    await h.server.deps.db('run').where({ id: runId }).update({ name: 'night\nFAULT  forged' });
    const file = await (await admin.fetch('runLogFile', { id: runId })).text();
    expect(file).toContain('forged');
    expect(file.split('\n').some((line) => line.startsWith('FAULT'))).toBe(false);
    expect(await codeOf(admin.call('addToken', { body: { name: 'two\nlines', role: 'auditor' } }))).toBe('INVALID');
  });
});
