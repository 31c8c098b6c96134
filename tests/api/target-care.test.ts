import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { diskUse } from '../support/nasty-tree';
import { Harness, policyFor, type Client } from '../support/harness';

const day = 86_400_000;
let h: Harness;
let admin: Client;
const clock = { at: Date.UTC(2026, 9, 20, 10), now: () => clock.at };
beforeAll(async () => {
  h = await Harness.start({ clock, leaseMs: 20_000, schedulerMs: 0, targetCare: true });
  admin = await h.as('administrator');
});
afterAll(() => h.stop());

const prunes = async () => (await admin.call('listRuns', { query: { kinds: 'prune' } })).rows;

describe('verification', () => {
  it('reads a part of every target each day by itself, and says in the morning what is damaged', async () => {
    const { source, workloadId, targetId } = await h.connect(admin, 'verified');
    fs.writeFileSync(`${source}/precious`, randomBytes(200_000));
    const { id } = await admin.call('addPolicy', { body: policyFor([workloadId], targetId, { name: 'verified' }) });
    await admin.ended((await admin.call('runPolicy', { id, body: {} })).runId);
    await h.round();
    const verifies = async () => (await admin.call('listRuns', { query: { kinds: 'verify' } })).rows;
    const [first] = await verifies();
    // what it found, where it found something
    const said = (await admin.call('runLog', { id: first!.id, query: {} })).rows.filter((l) => l.level !== 'note');
    expect(said.map((l) => [l.code, l.path, l.message])).toEqual([]);
    expect(await verifies()).toMatchObject([{ state: 'done', trigger: 'schedule' }]);
    await h.round();
    expect(await verifies()).toHaveLength(1);

    const sound = await admin.ended((await admin.call('verifyTarget', { id: targetId })).runId);
    expect(sound.state).toBe('done');
    const packs = fs
      .readdirSync(`${h.folder}/store/packs`, { recursive: true, encoding: 'utf8' })
      .map((n) => `${h.folder}/store/packs/${n}`);
    const largest = packs.filter((n) => fs.statSync(n).isFile()).sort((a, b) => fs.statSync(b).size - fs.statSync(a).size)[0]!;
    const good = fs.readFileSync(largest);
    const bad = Buffer.from(good);
    bad[5000] = bad[5000]! ^ 1;
    fs.writeFileSync(largest, bad);
    const run = await admin.ended((await admin.call('verifyTarget', { id: targetId })).runId);
    expect(run.state).toBe('partsMissing');
    const log = (await admin.call('runLog', { id: run.id, query: { level: 'fault' } })).rows;
    expect(log.map((l) => l.code)).toEqual(['DAMAGED', 'LOST', 'VERIFIED']);
    expect(log[1]!.path).toBe('precious');
    const matter = async () => (await admin.call('watch')).matters.find((m) => m.id.startsWith('damage'));
    expect(await matter()).toMatchObject({ level: 'fault', title: 'quay-disk is damaged', action: { link: `/runs/${run.id}` } });

    fs.writeFileSync(largest, good);
    expect((await admin.ended((await admin.call('verifyTarget', { id: targetId })).runId)).state).toBe('done');
    expect(await matter()).toBeUndefined();

    const failure = async () => (await admin.call('watch')).matters.find((m) => m.id.startsWith('care'))?.title;
    fs.renameSync(`${h.folder}/store`, `${h.folder}/unplugged`);
    expect((await admin.ended((await admin.call('verifyTarget', { id: targetId })).runId)).state).toBe('failed');
    expect(await failure()).toBe('Verification of quay-disk failed');
    fs.renameSync(`${h.folder}/unplugged`, `${h.folder}/store`);
    await admin.ended((await admin.call('verifyTarget', { id: targetId })).runId);
    expect(await failure()).toBeUndefined();
    await admin.call('removePolicy', { id });
  });
});

describe('room', () => {
  let source: string;
  let workloadId: number;
  let targetId: string;
  let policyId: number;
  const protect = async () => {
    fs.writeFileSync(`${source}/changing`, randomBytes(900_000));
    await admin.ended((await admin.call('runPolicy', { id: policyId, body: {} })).runId);
    clock.at += day;
  };

  it('is given back by itself some time after points have expired, and what stays can be restored', async () => {
    ({ source, workloadId, targetId } = await h.connect(admin));
    fs.writeFileSync(`${source}/kept`, randomBytes(300_000));
    const body = policyFor([workloadId], targetId, { keep: { by: 'points', points: 2 }, changeLimit: 100 });
    policyId = (await admin.call('addPolicy', { body })).id;
    for (let i = 0; i < 2; i++) await protect();
    await h.round();
    expect(await prunes()).toEqual([]);
    for (let i = 0; i < 3; i++) await protect();
    const full = diskUse(`${h.folder}/store`);
    await h.round();
    const [pruned] = await prunes();
    expect(pruned).toMatchObject({ state: 'done', trigger: 'schedule', name: 'Prune of quay-disk', workloads: [] });
    expect(pruned!.counts.bytes).toBeGreaterThan(2_600_000);
    expect(full - diskUse(`${h.folder}/store`)).toBeGreaterThan(2_600_000);
    await h.round();
    expect(await prunes()).toHaveLength(1);

    const { pointList } = await admin.call('workload', { id: workloadId });
    expect(pointList).toHaveLength(2);
    for (const [i, point] of pointList.entries()) {
      const folder = `${h.folder}/back-${i}`;
      const { runId } = await admin.call('startRestore', {
        body: { picks: [{ pointId: point.id, path: '' }], destination: { to: 'folder', folder }, reason: 'for a test' },
      });
      expect((await admin.ended(runId)).state).toBe('done');
      expect(fs.readFileSync(`${folder}/kept`).equals(fs.readFileSync(`${source}/kept`))).toBe(true);
    }
    expect(fs.readFileSync(`${h.folder}/back-1/changing`).equals(fs.readFileSync(`${source}/changing`))).toBe(true);
    expect(fs.readdirSync(`${h.folder}/store/pins`)).toEqual([]);
  });

  it('is told before it is given back, when a person asks', async () => {
    await protect();
    await h.round();
    const files = () => fs.readdirSync(`${h.folder}/store`, { recursive: true, encoding: 'utf8' }).sort();
    const before = files();
    const trial = await admin.ended((await admin.call('pruneTarget', { id: targetId, body: { trial: true } })).runId);
    const said = (await admin.call('runLog', { id: trial.id })).rows.map((l) => l.message).join();
    expect(said).toMatch(/3 points need \d+ packs, .* in all; \d+ packs?, 9\d\d kB would be deleted/);
    expect(files()).toEqual(before);
    const { runId } = await admin.call('pruneTarget', { id: targetId, body: {} });
    const again = admin.call('pruneTarget', { id: targetId, body: {} });
    const second = await again.catch((e: unknown) => e as { code: string });
    expect((await admin.ended(runId)).counts.bytes).toBeGreaterThan(890_000);
    if ('code' in second) expect(second.code).toBe('NOT_NOW');
    expect((await admin.call('listTargets')).rows[0]!.prunedAt).toBe(clock.at);
    expect((await admin.call('audit', { query: { q: 'target.prune' } })).rows.map((r) => r.action)).toEqual(
      expect.arrayContaining(['target.prune', 'target.pruneTrial']),
    );
  });

  it('of a target nobody knows can not be given back', async () => {
    const unknown = admin.call('pruneTarget', { id: '00000000-0000-4000-8000-000000000000', body: {} });
    await expect(unknown).rejects.toMatchObject({ status: 404 });
  });

  it('is never taken from a restore that goes on while its point expires', async () => {
    for (let i = 0; i < 1500; i++) fs.writeFileSync(`${source}/many-${i}`, randomBytes(2000));
    await protect();
    const { pointList } = await admin.call('workload', { id: workloadId });
    const folder = `${h.folder}/slow`;
    const { runId } = await admin.call('startRestore', {
      body: { picks: [{ pointId: pointList.at(-1)!.id, path: '' }], destination: { to: 'folder', folder }, reason: 'for a test' },
    });
    for (let i = 0; i < 1500; i++) fs.rmSync(`${source}/many-${i}`);
    await protect();
    await protect();
    await admin.ended((await admin.call('pruneTarget', { id: targetId, body: {} })).runId);
    expect((await admin.ended(runId)).state).toBe('done');
    expect(fs.readdirSync(folder)).toHaveLength(1502);
  });
});
