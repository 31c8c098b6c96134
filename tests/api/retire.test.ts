import fs from 'node:fs';
import { randomBytes } from 'node:crypto';
import { DateTime } from 'luxon';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';

let h: Harness;
let admin: Client;
let source: string;
let workloadId: number;
let old: string;
let fresh: string;
let policyId: number;
const clock = { at: Date.parse('2026-10-01T20:00:00Z'), now: () => clock.at };
const day = 86_400_000;

beforeAll(async () => {
  h = await Harness.start({ clock, leaseMs: 20_000, schedulerMs: 0, movers: 2 });
  admin = await h.as('administrator');
  ({ source, workloadId, targetId: old } = await h.connect(admin));
  fresh = (await admin.call('addTarget', { body: { name: 'new-disk', place: { kind: 'folder', folder: `${h.folder}/new` } } })).id;
  policyId = (await admin.call('addPolicy', { body: policyFor([workloadId], old, { keep: { by: 'days', days: 5 } }) })).id;
});
afterAll(() => h.stop());

async function protect(content: string): Promise<void> {
  clock.at += day;
  fs.writeFileSync(`${source}/tides`, content);
  const run = await admin.ended((await admin.call('runPolicy', { id: policyId, body: {} })).runId);
  expect(run.state).toBe('done');
  await h.round();
}
const points = async () => (await admin.call('workload', { id: workloadId })).pointList;
const standing = async () => (await points()).map((p) => p.copies.map((c) => c.target).join(' and '));

describe('a target', () => {
  it('takes no more writers at once than it was said to', async () => {
    await admin.call('setLimits', { id: old, body: { writers: 1, paces: [] } });
    const names = ['a', 'b', 'c', 'd'];
    for (const name of names) {
      const { source: folder, workloadId: id } = await h.connect(admin, name);
      for (let i = 0; i < 300; i++) fs.writeFileSync(`${folder}/${i}`, `${name} ${i}`);
      await admin.call('protectOnce', { id, body: { keep: { by: 'days', days: 1 } } });
    }
    let most = 0;
    for (;;) {
      const { rows } = await admin.call('listRuns', { query: { states: 'waiting,running' } });
      most = Math.max(most, rows.filter((r) => r.state === 'running').length);
      if (!rows.length) break;
      await new Promise((resume) => setTimeout(resume, 10));
    }
    expect(most).toBe(1);
    const times = await h.server.deps
      .db('task')
      .where({ type: 'backup' })
      .orderBy('started_at')
      .select<{ started_at: number; ended_at: number }[]>('started_at', 'ended_at');
    expect(times).toHaveLength(names.length);
    await admin.call('setLimits', { id: old, body: { writers: null, paces: [] } });
    await h.round();
  });

  it('that is given up passes on its policies and its points, and is forgotten with a second person only when nothing stands there alone', async () => {
    for (const content of ['one', 'two', 'three']) await protect(content);
    await expect(admin.call('forgetTarget', { id: old })).rejects.toThrow('It is in use');
    await expect(admin.call('retireTarget', { id: old, body: { to: old } })).rejects.toMatchObject({ code: 'INVALID' });
    const { runId } = await admin.call('retireTarget', { id: old, body: { to: fresh } });
    const run = await admin.ended(runId!);
    expect([run.state, run.workloadCount]).toEqual(['done', 5]);
    expect(await standing()).toEqual(Array.from({ length: 3 }, () => 'new-disk and quay-disk'));
    expect((await admin.call('getPolicy', { id: policyId })).body.rules[0]!.targetId).toBe(fresh);
    const back = policyFor([workloadId], old, { name: 'Back' });
    await expect(admin.call('addPolicy', { body: back })).rejects.toThrow('is being given up');
    expect(await admin.call('getTarget', { id: old })).toMatchObject({ retiredTo: fresh, onlyHere: 0 });
    const { request } = await admin.call('forgetTarget', { id: old });
    expect((await admin.call('listTargets')).rows).toHaveLength(2);
    await h.agree({ request });
    expect((await admin.call('listTargets')).rows.map((t) => t.name)).toEqual(['new-disk']);
    expect(await standing()).toEqual(['new-disk', 'new-disk', 'new-disk']);
    fs.rmSync(`${h.folder}/store`, { recursive: true });
    const body = {
      picks: [{ pointId: (await points())[0]!.id, path: 'tides' }],
      destination: { to: 'folder' as const, folder: `${h.folder}/back` },
      reason: 'prove it',
    };
    expect((await admin.ended((await admin.call('startRestore', { body })).runId)).state).toBe('done');
    expect(fs.readFileSync(`${h.folder}/back/tides`, 'utf8')).toBe('one');
  });

  it('that took over goes on, and lets its points go by the policy', async () => {
    await protect('four');
    expect(await standing()).toEqual(['new-disk', 'new-disk', 'new-disk', 'new-disk']);
    clock.at += 3 * day;
    await protect('five');
    const kept = await points();
    expect(kept.map((p) => p.copies[0]!.keepWhy)).toEqual(['kept for 5 days', 'the newest sound point is always kept']);
  });

  it('is verified no faster than the hour allows, and restored from at once', async () => {
    for (let i = 0; i < 3; i++) await protect(randomBytes(1_500_000).toString('base64'));
    const at = (hours: number) => DateTime.fromMillis(clock.at, { zone: 'Europe/Oslo' }).plus({ hours }).toFormat('HH:mm');
    const pace = (from: string, to: string, perSecond: number) =>
      admin.call('setLimits', { id: fresh, body: { writers: null, paces: [{ from, to, perSecond }] } });
    const took = async ({ runId }: { runId: number }) => {
      expect((await admin.ended(runId)).state).toBe('done');
      return Number((await h.server.deps.db('task').where({ run_id: runId }).first<{ ms: number }>('measured_ms as ms')).ms);
    };
    const verify = async () => took(await admin.call('verifyTarget', { id: fresh }));
    await expect(pace('7:00', '25:00', 1000)).rejects.toMatchObject({ status: 400 });
    // three packs of more than a megabyte each: the third waits for the two before it
    await pace(at(-1), at(3), 1_000_000);
    expect(await verify()).toBeGreaterThan(2000);
    // at a thousand bytes a second neither of these would end
    await pace(at(1), at(3), 1000);
    await verify();
    await pace(at(-1), at(3), 1000);
    const picks = [{ pointId: (await points()).at(-1)!.id, path: '' }];
    const destination = { to: 'folder' as const, folder: `${h.folder}/paced-back` };
    await took(await admin.call('startRestore', { body: { picks, destination, reason: 'prove it' } }));
    expect((await admin.call('getTarget', { id: fresh })).paces).toHaveLength(1);
  });
});
