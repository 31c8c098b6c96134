import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';

const passphrase = 'a lantern at the end of the quay';
const minute = 60_000;
const day = 86_400_000;
const clock = { at: Date.parse('2026-10-01T20:00:00Z'), now: () => clock.at };
let first: Harness;
let second: Harness;
let admin: Client;
let lighthouse: Client;
let source: string;
let workloadId: number;
let targetId: string;
let policyId: number;
let followedId: string;

async function protect(night: string): Promise<void> {
  clock.at += day;
  fs.writeFileSync(`${source}/of-the-night`, night.repeat(5000) + randomBytes(3000).toString('hex'));
  const run = await admin.ended((await admin.call('runPolicy', { id: policyId, body: {} })).runId);
  expect(run.state).toBe('done');
  await first.round();
}

const target = async () => (await lighthouse.call('listTargets')).rows.find((t) => t.id === followedId)!;
const there = async () => {
  const [workload] = (await lighthouse.call('estate')).workloads;
  return workload ? (await lighthouse.call('workload', { id: workload.id })).pointList : [];
};
const own = async () => (await admin.call('workload', { id: workloadId })).pointList;
const idsOf = (points: readonly { id: string }[]) => points.map((p) => p.id);

/** The second site reads the store again, as it is due. */
async function readAgain(): Promise<void> {
  clock.at += 16 * minute;
  const before = (await target()).follows!.readAt;
  await second.tick();
  const run = (await lighthouse.call('listRuns', { query: { limit: 50 } })).rows.find(
    (r) => r.state === 'waiting' || r.state === 'running',
  );
  if (run) await lighthouse.ended(run.id);
  expect((await target()).follows!.readAt).toBeGreaterThan(before ?? 0);
}

async function restored(client: Client, h: Harness, pointId: string): Promise<Record<string, string>> {
  const folder = `${h.folder}/back`;
  fs.rmSync(folder, { recursive: true, force: true });
  const body = { picks: [{ pointId, path: '' }], destination: { to: 'folder' as const, folder }, reason: 'prove it' };
  const run = await client.ended((await client.call('startRestore', { body })).runId);
  expect(run.state, run.cause?.message).toBe('done');
  return Object.fromEntries(fs.readdirSync(folder).map((n) => [n, fs.readFileSync(`${folder}/${n}`, 'base64')]));
}

beforeAll(async () => {
  first = await Harness.start({ clock, leaseMs: 20_000, schedulerMs: 0 });
  admin = await first.as('administrator');
  ({ source, workloadId, targetId } = await first.connect(admin));
  policyId = (await admin.call('addPolicy', { body: policyFor([workloadId], targetId, { keep: { by: 'points', points: 3 } }) })).id;
  for (let i = 0; i < 20; i++) fs.writeFileSync(`${source}/plan-${i}`, randomBytes(2000 + i));
  for (const night of ['one', 'two']) await protect(night);
  second = await Harness.start({ clock, leaseMs: 20_000, schedulerMs: 0, targetCare: true });
  lighthouse = await second.as('administrator');
  await second.moverReady();
});
afterAll(async () => {
  await first.stop();
  await second.stop();
});

describe('a second site that follows a store', () => {
  it('lists its points by the envelope, while the first goes on as before', async () => {
    const { content: envelope } = await admin.call('envelope', { id: targetId, body: { passphrase } });
    const body = {
      name: 'north-store',
      place: { kind: 'folder' as const, folder: `${first.folder}/store` },
      envelope,
      passphrase,
      every: 15,
    };
    await expect(lighthouse.call('followTarget', { body: { ...body, every: 1 } })).rejects.toMatchObject({ code: 'INVALID' });
    await expect(lighthouse.call('followTarget', { body: { ...body, passphrase: 'wrong' } })).rejects.toThrow('does not open');
    await expect((await second.as('operator')).call('followTarget', { body })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
    const { id, runId } = await lighthouse.call('followTarget', { body });
    followedId = id;
    expect((await lighthouse.ended(runId)).state).toBe('done');
    expect(idsOf(await there())).toEqual(idsOf(await own()));
    expect((await target()).follows).toMatchObject({ every: 15, newest: (await own()).at(-1)!.moment });
    await protect('three');
    expect((await own()).length).toBe(3);
  });

  it('reads it again when that is due, and the owner is told who follows', async () => {
    expect(await there()).toHaveLength(2);
    await readAgain();
    expect(idsOf(await there())).toEqual(idsOf(await own()));
    await admin.call('listTargets');
    await expect.poll(async () => (await admin.call('listTargets')).rows[0]!.followed.length).toBe(1);
    expect((await admin.call('listTargets')).rows[0]!.ownedElsewhere).toBeNull();
    await lighthouse.call('listTargets');
    await expect.poll(async () => (await target()).ownedElsewhere).not.toBeNull();
  });

  it('lists nothing that the owner let go, and every point that it lists comes back', async () => {
    for (const night of ['four', 'five']) await protect(night);
    await first.round();
    await admin.ended((await admin.call('pruneTarget', { id: targetId, body: {} })).runId);
    const kept = await own();
    expect(kept).toHaveLength(3);
    await readAgain();
    expect(idsOf(await there())).toEqual(idsOf(kept));
    for (const { id } of kept) expect(await restored(lighthouse, second, id)).toEqual(await restored(admin, first, id));
    await second.round();
    expect(idsOf(await there())).toEqual(idsOf(kept));
  });

  it('tells what taking it over would come to, and brings a newer point to a prepared place by itself', async () => {
    const [workload] = (await lighthouse.call('estate')).workloads;
    const outlook = () => lighthouse.call('ownOutlook', { id: followedId });
    await expect((await second.as('operator')).call('ownOutlook', { id: followedId })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
    await expect(admin.call('ownOutlook', { id: targetId })).rejects.toMatchObject({ code: 'NOT_NOW' });
    const newest = (await there()).at(-1)!.moment;
    expect(await outlook()).toMatchObject({
      points: 3,
      all: 1,
      workloads: [{ id: workload!.id, newest, triedAt: null, protectedHere: false }],
      repeats: [],
    });
    const folder = `${second.folder}/ready`;
    const destination = { to: 'folder' as const, folder };
    const body = { name: 'ready', workloads: [workload!.id], schedule: { every: 'point' as const }, destination, reason: 'to go on here' };
    const { id } = await lighthouse.call('addStanding', { body });
    const times = async () => (await lighthouse.call('standingEvidence', { id })).rows;
    const brought = async (moment: number) => {
      await expect.poll(async () => ((await times())[0]?.moments ?? []).join(), { timeout: 30_000 }).toBe(String(moment));
      await lighthouse.ended((await times())[0]!.runId);
      expect((await times())[0]!.state).toBe('done');
      const [only, ...others] = fs.readdirSync(`${folder}/${workload!.name}`).filter((n) => !n.startsWith('.'));
      expect(others).toEqual([]);
      expect(fs.readFileSync(`${folder}/${workload!.name}/${only}/of-the-night`)).toEqual(fs.readFileSync(`${source}/of-the-night`));
    };
    clock.at += 1000;
    await second.tick();
    await brought(newest);
    clock.at += 1000;
    await second.tick();
    await second.round();
    expect(await times()).toHaveLength(1);
    await protect('six');
    await readAgain();
    clock.at += 1000;
    await second.tick();
    await brought((await there()).at(-1)!.moment);
    expect(await times()).toHaveLength(2);
    const { workloads, repeats, back } = await outlook();
    expect(repeats).toMatchObject([{ id, name: 'ready', workloads: 1, state: 'done' }]);
    expect(workloads[0]!.triedAt).not.toBeNull();
    expect(back).toMatchObject({ unknown: 0, ms: workloads[0]!.takes });
    await lighthouse.call('removeStanding', { id });
  });

  it('lets nothing go where the store is not there at all', async () => {
    const known = idsOf(await there());
    const store = `${first.folder}/store`;
    fs.renameSync(store, `${store}-away`);
    fs.mkdirSync(store);
    const run = await lighthouse.ended((await lighthouse.call('adoptTarget', { id: followedId })).runId);
    expect([run.state, run.cause?.code]).toEqual(['failed', 'TARGET_MISSING']);
    expect(idsOf(await there())).toEqual(known);
    fs.rmSync(store, { recursive: true });
    fs.renameSync(`${store}-away`, store);
    await readAgain();
    expect(idsOf(await there())).toEqual(known);
  });

  it('writes nothing there, whoever asks', async () => {
    const objects = () =>
      fs
        .readdirSync(`${first.folder}/store`, { recursive: true })
        .filter((n) => !/pins|followers/.test(String(n)))
        .sort();
    const before = objects();
    const [workload] = (await lighthouse.call('estate')).workloads;
    await expect(lighthouse.call('addPolicy', { body: policyFor([workload!.id], followedId) })).rejects.toMatchObject({ code: 'INVALID' });
    const notNow = { code: 'NOT_NOW' };
    await expect(lighthouse.call('protectOnce', { id: workload!.id, body: { targetId: followedId } })).rejects.toMatchObject(notNow);
    await expect(lighthouse.call('pruneTarget', { id: followedId, body: {} })).rejects.toMatchObject(notNow);
    await expect(lighthouse.call('verifyTarget', { id: followedId })).rejects.toMatchObject(notNow);
    await expect(lighthouse.call('newKey', { id: followedId })).rejects.toMatchObject(notNow);
    await expect(lighthouse.call('settleTarget', { id: followedId })).rejects.toMatchObject(notNow);
    clock.at += 5 * day;
    await second.round();
    await readAgain();
    expect(objects()).toEqual(before);
    expect((await target()).settingsAt).toBeNull();
  });

  it('says so when it could not read for a while', async () => {
    const titles = async () => (await lighthouse.call('watch', { query: {} })).matters.map((m) => m.title);
    expect(await titles()).not.toContainEqual(expect.stringMatching(/^north-store was not read/));
    clock.at += 2 * 3_600_000;
    expect(await titles()).toContainEqual(expect.stringMatching(/^north-store was not read for 2 h/));
    await readAgain();
    expect(await titles()).not.toContainEqual(expect.stringMatching(/^north-store was not read/));
  });

  it('takes over, and the first is refused from then on, told so, and can follow', async () => {
    await expect(lighthouse.call('ownTarget', { id: followedId, body: { reason: '' } })).rejects.toMatchObject({ code: 'INVALID' });
    await expect(admin.call('ownTarget', { id: targetId, body: { reason: 'not needed' } })).rejects.toMatchObject({ code: 'NOT_NOW' });
    const { runId } = await lighthouse.call('ownTarget', { id: followedId, body: { reason: 'the quay is under water' } });
    expect((await lighthouse.ended(runId!)).state).toBe('done');
    expect((await target()).follows).toBeNull();
    const [workload] = (await lighthouse.call('estate')).workloads;
    const { id } = await lighthouse.call('addPolicy', { body: policyFor([workload!.id], followedId) });
    expect((await lighthouse.ended((await lighthouse.call('runPolicy', { id, body: {} })).runId)).state).toBe('done');
    const refused = await admin.ended((await admin.call('runPolicy', { id: policyId, body: {} })).runId);
    expect([refused.state, refused.cause?.code]).toEqual(['failed', 'NOT_OWNER']);
    clock.at += 2 * minute;
    await admin.call('listTargets');
    await expect.poll(async () => (await admin.call('listTargets')).rows[0]!.ownedElsewhere).not.toBeNull();
    const matters = (await admin.call('watch', { query: {} })).matters.map((m) => m.title);
    expect(matters).toContain('quay-disk belongs to another installation');
    await admin.call('setFollowing', { id: targetId, body: { every: 30 } });
    await admin.ended((await admin.call('adoptTarget', { id: targetId })).runId);
    expect(idsOf(await own())).toEqual(idsOf(await there()));
    // its own policy, which keeps three points, lets nothing go of what belongs to another
    expect((await own()).length).toBeGreaterThan(3);
    await first.server.scheduler.tick();
    await first.round();
    expect(idsOf(await own())).toEqual(idsOf(await there()));
  });

  it('gives it back, and is the one that is refused', async () => {
    const { runId } = await admin.call('ownTarget', { id: targetId, body: { reason: 'the quay is dry again' } });
    expect((await admin.ended(runId!)).state).toBe('done');
    expect((await admin.ended((await admin.call('runPolicy', { id: policyId, body: {} })).runId)).state).toBe('done');
    const policy = (await lighthouse.call('listPolicies')).rows[0]!;
    const refused = await lighthouse.ended((await lighthouse.call('runPolicy', { id: policy.id, body: {} })).runId);
    expect([refused.state, refused.cause?.code]).toEqual(['failed', 'NOT_OWNER']);
  });

  it('ends following: its points leave the catalog, and the store stays as it is', async () => {
    clock.at += 2 * minute;
    await lighthouse.call('listTargets');
    await expect.poll(async () => (await target()).ownedElsewhere).not.toBeNull();
    await lighthouse.call('setFollowing', { id: followedId, body: { every: 15 } });
    await readAgain();
    const kept = idsOf(await own());
    await second.agree(await lighthouse.call('forgetTarget', { id: followedId }));
    expect((await lighthouse.call('listTargets')).rows).toEqual([]);
    expect(await there()).toEqual([]);
    expect(idsOf(await own())).toEqual(kept);
  });
});
