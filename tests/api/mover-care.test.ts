import { moverLanguage } from '@lithodex/contract';
import { spawn, type ChildProcess } from 'node:child_process';
import fs from 'node:fs';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { Client, Harness, policyFor } from '../support/harness';

let h: Harness;
let admin: Client;
let joined: ChildProcess | undefined;
let policyId: number;

beforeAll(async () => {
  h = await Harness.start({ schedulerMs: 0 });
  admin = await h.as('administrator');
  const { source, workloadId, targetId } = await h.connect(admin);
  fs.writeFileSync(`${source}/log`, 'tide');
  policyId = (await admin.call('addPolicy', { body: policyFor([workloadId], targetId) })).id;
});
afterAll(async () => {
  joined?.kill('SIGKILL');
  await h.stop();
});

const movers = async () => (await admin.call('listMovers')).rows;
const soon = (check: () => Promise<void>) => vi.waitFor(check, { timeout: 60_000, interval: 100 });
const start = (name: string, code: string, tokenFile: string) =>
  spawn(
    process.execPath,
    [
      'dist/node/mover.js',
      '--server',
      h.base,
      '--token-file',
      tokenFile,
      '--keys',
      `${h.folder}/keys-2`,
      '--name',
      name,
      '--join',
      code,
      '--log-level',
      'silent',
    ],
    { stdio: ['ignore', 'inherit', 'pipe'] },
  );

describe('movers', () => {
  it('tell how busy their hosts are', async () => {
    await soon(async () => {
      const [known] = await movers();
      expect(known).toMatchObject({
        name: 'mover-1',
        present: true,
        drained: false,
        tasks: 2,
        running: 0,
        duties: ['capture', 'keep', 'prune'],
      });
      expect(known!.hardware.processors).toBeGreaterThan(0);
      expect(known!.latest.memory).toBeGreaterThan(0);
    });
    const { rows } = await admin.call('moverSamples', { id: 'mover-1' });
    expect(rows).toHaveLength(1);
    await expect(admin.call('moverSamples', { id: 'nobody' })).rejects.toMatchObject({ code: 'NOT_FOUND' });
  });

  it('get nothing new while they are drained, and go on afterwards', async () => {
    await admin.call('changeMover', { id: 'mover-1', body: { drained: true, tasks: 3 } });
    const { runId } = await admin.call('runPolicy', { id: policyId, body: {} });
    await new Promise((resume) => setTimeout(resume, 1500));
    expect((await admin.call('getRun', { id: runId })).state).toBe('waiting');
    expect((await movers())[0]).toMatchObject({ drained: true, tasks: 3 });
    await admin.call('changeMover', { id: 'mover-1', body: { drained: false, tasks: 2 } });
    expect((await admin.ended(runId)).state).toBe('done');
  });

  it('join by a code, once, with no more than it says', async () => {
    const { code } = await admin.call('inviteMover', { body: { duties: ['keep'] } });
    const tokenFile = `${h.folder}/token-2`;
    joined = start('pilot-house', code, tokenFile);
    await soon(async () => {
      expect((await movers()).find((m) => m.name === 'pilot-house')).toMatchObject({ present: true, duties: ['keep'] });
    });
    expect(fs.statSync(tokenFile).mode & 0o777).toBe(0o600);
    const nobody = new Client(() => h.base);
    await expect(nobody.call('joinMover', { body: { code, mover: 'second' } })).rejects.toMatchObject({ code: 'CODE_REFUSED' });
    await expect(nobody.call('joinMover', { body: { code: 'lxj_nothing-at-all', mover: 'second' } })).rejects.toMatchObject({
      code: 'CODE_REFUSED',
    });
    const kept = JSON.stringify([await h.server.deps.db('join_code').select(), await admin.call('audit', { query: {} })]);
    expect(kept).not.toContain(code);
  });

  it('have tokens of their own, which let in nobody else and are gone with them', async () => {
    const invited = async () => (await admin.call('inviteMover', { body: { duties: ['capture'] } })).code;
    const nobody = new Client(() => h.base);
    const code = await invited();
    await expect(nobody.call('joinMover', { body: { code, mover: 'mover-1' } })).rejects.toMatchObject({ code: 'NAME_TAKEN' });
    const join = async (with_: string) =>
      new Client(() => h.base, (await nobody.call('joinMover', { body: { code: with_, mover: 'signal-mast' } })).token);
    const first = await join(code);
    const hardware = { processors: 1, memory: 1, system: 'x' };
    const sample = { processor: 0, memory: 0, received: null, sent: null, read: null, written: null };
    const beat = (as: Client, mover: string) => as.call('beat', { body: { mover, hardware, sample } });
    await beat(first, 'signal-mast');
    for (const act of [
      () => beat(first, 'mover-1'),
      () => first.call('claim', { body: { mover: 'mover-1', speaks: moverLanguage } }),
      () => first.call('questions', { body: { mover: 'x', speaks: moverLanguage } }),
    ])
      await expect(act()).rejects.toMatchObject({ code: 'NOT_ALLOWED' });

    // one that is only asleep is not put out by whoever holds a code
    const later = await invited();
    await expect(join(later)).rejects.toMatchObject({ code: 'NAME_TAKEN' });
    await beat(first, 'signal-mast');
    await admin.call('forgetMover', { id: 'signal-mast' });
    await expect(beat(first, 'signal-mast')).rejects.toMatchObject({ code: 'NOT_SIGNED_IN' });
    await beat(await join(later), 'signal-mast');
    expect((await movers()).map((m) => m.name)).toContain('mover-1');
  });

  it('do not join by a code that is too old', async () => {
    const { code } = await admin.call('inviteMover', { body: { duties: ['capture'] } });
    await h.server.deps
      .db('join_code')
      .whereNull('used_by')
      .update({ until: Date.now() - 1 });
    await expect(new Client(() => h.base).call('joinMover', { body: { code, mover: 'late' } })).rejects.toMatchObject({
      code: 'CODE_REFUSED',
    });
  });

  it('are forgotten only when they are gone', async () => {
    await expect(admin.call('forgetMover', { id: 'mover-1' })).rejects.toMatchObject({ code: 'NOT_NOW' });
    await h.server.deps.db('mover').insert({
      name: 'old',
      first_seen: 1,
      last_seen: 2,
      duties: '[]',
      hardware: '{"processors":1,"memory":1,"system":"x"}',
      latest: '{"processor":0,"memory":0,"received":null,"sent":null,"read":null,"written":null}',
    });
    await admin.call('forgetMover', { id: 'old' });
    expect((await movers()).map((m) => m.name)).not.toContain('old');
    await expect(admin.call('forgetMover', { id: 'old' })).rejects.toMatchObject({ code: 'NOT_FOUND' });
  });
});
