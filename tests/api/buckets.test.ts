import { execFileSync } from 'node:child_process';
import fs from 'node:fs';
import type { Answered, BodyInput } from '@lithodex/contract';
import { allFine, BucketService, rights } from '@lithodex/standins';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';

let h: Harness;
let admin: Client;
let service: BucketService;
let place: BodyInput<'addTarget'>['place'];
const secret = 'a-secret-that-must-not-be-seen';

beforeAll(async () => {
  h = await Harness.start();
  admin = await h.as('administrator');
  service = new BucketService({
    folder: `${h.folder}/bucket-service`,
    accounts: [
      { accessKey: 'keeper', secretKey: secret, rights },
      { accessKey: 'reader', secretKey: secret, rights: ['list', 'read'] },
    ],
  });
  const endpoint = await service.start();
  service.makeBucket('harbour');
  place = { kind: 'bucket', endpoint, bucket: 'harbour', prefix: 'lithodex/', accessKey: 'keeper', secretKey: secret };
  await h.moverReady();
});
afterAll(async () => {
  await service.stop();
  await h.stop();
});

describe('a bucket as target', () => {
  it('is tested right by right, and not saved where one is missing or a store stands', async () => {
    const test = await admin.call('testTarget', { body: { name: 'x', place: { ...place, accessKey: 'reader' } as typeof place } });
    expect(test.ok).toBe(false);
    expect(test.needs.filter((n) => n.problem).map((n) => n.right)).toContain('Write objects');
    const refused = admin.call('addTarget', { body: { name: 'x', place: { ...place, accessKey: 'reader' } as typeof place } });
    await expect(refused).rejects.toMatchObject({ code: 'TARGET_FAULTY' });
    await expect(
      admin.call('addTarget', { body: { name: 'x', place: { ...place, bucket: 'nowhere' } as typeof place } }),
    ).rejects.toMatchObject({ code: 'MOVER_FAILED' });
    await admin.call('addTarget', { body: { name: 'north-store', place, location: 'North' } });
    await expect(admin.call('addTarget', { body: { name: 'again', place } })).rejects.toMatchObject({ code: 'NAME_TAKEN' });
    expect((await admin.call('listTargets')).rows.map((t) => t.name)).toEqual(['north-store']);
  });

  it('keeps points and gives them back, is verified and pruned, and opens with its envelope alone', async () => {
    const { source, workloadId, targetId } = await h.connect(admin);
    for (let i = 0; i < 400; i++) fs.writeFileSync(`${source}/f${i}`, `file ${i} `.repeat(50 * (i % 40)));
    fs.writeFileSync(`${source}/large`, Buffer.alloc(30 << 20, 'some text, some more '));
    const { id } = await admin.call('addPolicy', { body: policyFor([workloadId], targetId, { keep: { by: 'points', points: 1 } }) });
    const run = async () => (await admin.ended((await admin.call('runPolicy', { id, body: {} })).runId)).state;
    expect(await run()).toBe('done');
    fs.writeFileSync(`${source}/f1`, 'changed');
    expect(await run()).toBe('done');
    const [point] = (await admin.call('workload', { id: workloadId })).pointList.slice(-1);
    const restore = {
      picks: [{ pointId: point!.id, path: '' }],
      destination: { to: 'folder' as const, folder: `${h.folder}/back` },
      reason: 'prove it',
    } satisfies BodyInput<'startRestore'>;
    expect((await admin.ended((await admin.call('startRestore', { body: restore })).runId)).state).toBe('done');
    const difference = () => execFileSync('diff', ['-r', source, `${h.folder}/back`], { encoding: 'utf8' });
    expect(difference()).toBe('');
    const care = async (started: Answered<'verifyTarget'>) => (await admin.ended(started.runId)).state;
    expect(await care(await admin.call('verifyTarget', { id: targetId }))).toBe('done');
    expect(await care(await admin.call('pruneTarget', { id: targetId, body: {} }))).toBe('done');

    const { content } = await admin.call('envelope', { id: targetId, body: { passphrase: 'lanterns at dusk' } });
    fs.writeFileSync(`${h.folder}/envelope.json`, content);
    fs.rmSync(`${h.folder}/back`, { recursive: true });
    const { endpoint, bucket, prefix } = place as Extract<typeof place, { kind: 'bucket' }>;
    const store = ['--store', `${endpoint}/${bucket}/${prefix}`, '--envelope', `${h.folder}/envelope.json`];
    const { spawn } = await import('node:child_process');
    const env = { ...process.env, LITHODEX_ACCESS_KEY: 'keeper', LITHODEX_SECRET_KEY: secret, LITHODEX_PASSPHRASE: 'lanterns at dusk' };
    const child = spawn(process.execPath, ['dist/node/extract.js', ...store, '--point', point!.id, '--to', `${h.folder}/back`], { env });
    expect(await new Promise((resolve) => child.once('exit', resolve))).toBe(0);
    expect(difference()).toBe('');
  });

  it('keeps what opens it out of every answer, the queue, the trail and the database', async () => {
    const shown = JSON.stringify([await admin.call('listTargets'), await admin.call('audit', { query: {} })]);
    expect(shown).toContain('north-store');
    expect(shown).not.toContain(secret);
    expect(shown).not.toContain('"keeper"');
    const { db } = h.server.deps;
    for (const table of ['target', 'task', 'audit', 'log_line', 'run'])
      for (const row of await db(table).select<Record<string, unknown>[]>())
        for (const value of Object.values(row)) {
          const text = Buffer.isBuffer(value) ? value.toString('latin1') : JSON.stringify(value);
          expect(text.includes(secret), `${table}: ${text.slice(0, 80)}`).toBe(false);
        }
  });

  it('names what is wrong while it is down or full, loses nothing, and goes on when it is back', async () => {
    const [policy] = (await admin.call('listPolicies')).rows;
    const run = async () => {
      const ended = await admin.ended((await admin.call('runPolicy', { id: policy!.id, body: {} })).runId);
      return [ended.state, ended.tasks[0]!.cause?.code];
    };
    service.switches = { ...allFine, down: true };
    expect(await run()).toEqual(['failed', 'TARGET_REFUSED']);
    service.switches = { ...allFine, fullAt: 1 };
    expect(await run()).toEqual(['failed', 'TARGET_FULL']);
    service.switches = { ...allFine, latencyMs: 5, refuseEvery: 5 };
    expect(await run()).toEqual(['done', undefined]);
    service.switches = allFine;
  });
});
