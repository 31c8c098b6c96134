import fs from 'node:fs';
import type { BodyInput } from '@lithodex/contract';
import { BucketService, rights } from '@lithodex/standins';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';

let h: Harness;
let admin: Client;
let service: BucketService;
let north: string;
let source: string;
let workloadId: number;
let targetId: string;
let policyId: number;
const clock = { at: Date.parse('2026-10-01T20:00:00Z'), now: () => clock.at };
const day = 86_400_000;

beforeAll(async () => {
  h = await Harness.start({ clock, leaseMs: 20_000, schedulerMs: 0 });
  admin = await h.as('administrator');
  service = new BucketService({ folder: `${h.folder}/bucket`, accounts: [{ accessKey: 'k', secretKey: 's', rights }] });
  const endpoint = await service.start();
  service.makeBucket('north');
  ({ source, workloadId, targetId } = await h.connect(admin));
  const place = { kind: 'bucket' as const, endpoint, bucket: 'north', accessKey: 'k', secretKey: 's' };
  north = (await admin.call('addTarget', { body: { name: 'north-store', place } })).id;
  const copies: BodyInput<'addPolicy'>['rules'][number]['copies'] = [{ targetId: north, rhythm: 'every', keep: { by: 'days', days: 30 } }];
  fs.mkdirSync(`${source}/many`);
  for (let i = 0; i < 600; i++) fs.writeFileSync(`${source}/many/${i}`, `file ${i} `.repeat(30 + (i % 50)));
  policyId = (await admin.call('addPolicy', { body: policyFor([workloadId], targetId, { keep: { by: 'points', points: 2 }, copies }) })).id;
});
afterAll(async () => {
  await service.stop();
  await h.stop();
});
beforeEach(() => {
  clock.at += day;
});

/** A run of the policy and all that follows it. */
async function protect(change: string): Promise<string> {
  fs.writeFileSync(`${source}/changing`, change);
  fs.writeFileSync(`${source}/random-${change}`, Buffer.alloc(100_000, change));
  const { state } = await admin.ended((await admin.call('runPolicy', { id: policyId, body: {} })).runId);
  await h.round();
  return state;
}
const points = async () => (await admin.call('workload', { id: workloadId })).pointList;
const standing = async () => (await points()).map((p) => p.copies.map((c) => c.target).join(' and '));
/** Restores a whole point, through the threads as it has many files. */
async function restored(pointId: string, changed: string): Promise<{ state: string; log: string[] }> {
  const folder = `${h.folder}/back`;
  fs.rmSync(folder, { recursive: true, force: true });
  const body: BodyInput<'startRestore'> = { picks: [{ pointId, path: '' }], destination: { to: 'folder', folder }, reason: 'prove it' };
  const run = await admin.ended((await admin.call('startRestore', { body })).runId);
  expect(fs.readFileSync(`${folder}/changing`, 'utf8')).toBe(changed);
  for (let i = 0; i < 600; i += 7) expect(fs.readFileSync(`${folder}/many/${i}`, 'utf8')).toBe(`file ${i} `.repeat(30 + (i % 50)));
  const log = (await admin.call('runLog', { id: run.id, query: { q: 'was read from' } })).rows.map((l) => l.message);
  return { state: run.state, log };
}

describe('copies', () => {
  it('follow every new point to the other target, where each has an end of its own', async () => {
    expect(await protect('one')).toBe('done');
    expect(await standing()).toEqual(['quay-disk and north-store']);
    for (const change of ['two', 'three', 'four']) {
      clock.at += day;
      expect(await protect(change)).toBe('done');
    }
    expect(await standing()).toEqual(['north-store', 'north-store', 'quay-disk and north-store', 'quay-disk and north-store']);
    const [oldest] = await points();
    expect(oldest!.copies[0]!.keepWhy).toContain('30 days');
    const { rows } = await admin.call('listRuns', { query: { kinds: 'copy' } });
    expect(rows.map((r) => [r.name, r.state])).toEqual(Array.from({ length: 4 }, () => ['Copies to north-store', 'done']));
    expect(rows[0]!.counts.bytes).toBeGreaterThan(600_000);
    expect(rows[0]!.counts.read).toBeLessThan(150_000);
    expect(fs.readdirSync(`${h.folder}/store/roots`, { recursive: true }).filter((n) => String(n).includes('/'))).toHaveLength(2);
  });

  it('give back a point that the first target has let go', async () => {
    const [oldest] = await points();
    expect((await restored(oldest!.id, 'one')).state).toBe('done');
    expect((await admin.call('listTargets')).rows.map((t) => [t.name, t.points])).toEqual([
      ['north-store', 4],
      ['quay-disk', 2],
    ]);
  });

  it('are read where a person wants them read', async () => {
    const newest = (await points()).at(-1)!;
    const body = {
      picks: [{ pointId: newest.id, path: 'changing' }],
      destination: { to: 'original' as const },
      readFrom: north,
      reason: 'look',
    };
    const plan = await admin.call('planRestore', { body });
    expect([plan.readFrom.map((r) => r.target), plan.copies.map((c) => c.target).sort()]).toEqual([
      ['north-store'],
      ['north-store', 'quay-disk'],
    ]);
    expect(plan.copies.map(({ target, kind, price, estimateMs }) => [target, kind, price, estimateMs]).sort()).toEqual([
      ['north-store', 'bucket', null, null],
      ['quay-disk', 'folder', null, null],
    ]);
    expect((await admin.call('planRestore', { body: { ...body, readFrom: null } })).readFrom[0]!.target).toBe('quay-disk');
    fs.renameSync(`${h.folder}/store`, `${h.folder}/store.away`);
    const run = await admin.ended((await admin.call('startRestore', { body: { ...body, rule: 'replace', rescue: false } })).runId);
    fs.renameSync(`${h.folder}/store.away`, `${h.folder}/store`);
    expect(run.state).toBe('done');
  });

  it('are read by themselves where the first target is away or damaged, and the log says so', async () => {
    const newest = (await points()).at(-1)!;
    fs.renameSync(`${h.folder}/store`, `${h.folder}/store.away`);
    const away = await restored(newest.id, 'four');
    expect(away.log.some((l) => l.includes('was read from north/'))).toBe(true);
    fs.renameSync(`${h.folder}/store.away`, `${h.folder}/store`);
    const packs = fs.readdirSync(`${h.folder}/store/packs`, { recursive: true, encoding: 'utf8' }).filter((n) => n.includes('/'));
    for (const name of packs) fs.writeFileSync(`${h.folder}/store/packs/${name}`, 'spoiled');
    // a mover that has read the packs while they were sound still holds some of their blocks
    await h.killMover('mover-1');
    h.startMover('mover-1');
    expect((await restored(newest.id, 'four')).log.some((l) => l.includes('was read from north/'))).toBe(true);
  });

  it('heal the other target when it is verified, so that it stands alone again', async () => {
    const run = await admin.ended((await admin.call('verifyTarget', { id: targetId })).runId);
    expect([run.state, run.counts.failed]).toEqual(['remarks', 0]);
    const log = (await admin.call('runLog', { id: run.id, query: { q: 'healed' } })).rows;
    expect(log[0]!.message).toMatch(/healed with \d+ chunks from other targets/);
    const matters = (await admin.call('watch', { query: {} })).matters.filter((m) => m.title.includes('damaged'));
    expect(matters).toEqual([]);
    await admin.ended((await admin.call('pruneTarget', { id: targetId, body: {} })).runId);
    expect((await admin.ended((await admin.call('verifyTarget', { id: targetId })).runId)).state).toBe('done');
    const newest = (await points()).at(-1)!;
    await service.stop();
    expect((await restored(newest.id, 'four')).log.some((l) => l.includes('was read from'))).toBe(false);
  });

  it('that fail say why, and are caught up with the next point', async () => {
    clock.at += day;
    expect(await protect('five')).toBe('done');
    const failed = (await admin.call('listRuns', { query: { kinds: 'copy', limit: 1 } })).rows[0]!;
    expect([failed.state, failed.cause?.code]).toEqual(['failed', 'TARGET_MISSING']);
    expect((await admin.call('watch', { query: {} })).matters.map((m) => m.title)).toContain('Copies to north-store failed');
    const again = new BucketService({
      folder: `${h.folder}/bucket`,
      accounts: [{ accessKey: 'k', secretKey: 's', rights }],
      port: Number(new URL(String(await endpointOf())).port),
    });
    await again.start();
    service = again;
    clock.at += day;
    expect(await protect('six')).toBe('done');
    expect((await standing()).slice(-2)).toEqual(['quay-disk and north-store', 'quay-disk and north-store']);
  });

  it('go only to other targets, each once', async () => {
    const copy = (id: string) => ({ targetId: id, rhythm: 'every' as const, keep: { by: 'hand' as const } });
    for (const copies of [[copy(targetId)], [copy(north), copy(north)], [copy('00000000-0000-4000-8000-000000000000')]])
      await expect(admin.call('changePolicy', { id: policyId, body: policyFor([workloadId], targetId, { copies }) })).rejects.toMatchObject(
        {
          code: 'INVALID',
        },
      );
  });

  it('leave the catalog only with the last copy of a point', async () => {
    clock.at += 40 * day;
    await h.round();
    await protect('seven');
    await h.round();
    const left = await standing();
    expect(left.at(-1)).toBe('quay-disk and north-store');
    expect(left.length).toBeLessThan(4);
    expect(left).not.toContain('');
  });
});

async function endpointOf(): Promise<string> {
  const { place } = (await admin.call('listTargets')).rows.find((t) => t.name === 'north-store')!;
  return place.kind === 'bucket' ? place.endpoint : '';
}
