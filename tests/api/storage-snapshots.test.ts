import fs from 'node:fs';
import { letGuestWrite, platformRights, type PlatformService } from '@lithodex/standins';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';
import { buildLogger, keeper, soundDisks, startPlatform } from '../support/platform';

let h: Harness;
let admin: Client;
let service: PlatformService;
let targetId: string;
let platformId: number;
let workloadId: number;
let otherId: number;
const log = 'disks/system.raw/p2/var/log/gate.log';

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 20_000, schedulerMs: 0 });
  admin = await h.as('administrator');
  ({ targetId } = await h.connect(admin));
  const started = await startPlatform(`${h.folder}/platform`);
  ({ service } = started);
  await buildLogger(service, 'gate-01');
  await buildLogger(service, 'gate-02', { host: 'mole-2' });
  ({ id: platformId } = await admin.call('addPlatform', { body: started.body }));
  const { workloads } = await admin.call('estate');
  [workloadId, otherId] = ['gate-01', 'gate-02'].map((name) => workloads.find((w) => w.name === name)!.id) as [number, number];
  const policy = await admin.call('addPolicy', { body: policyFor([workloadId], targetId) });
  await admin.ended((await admin.call('runPolicy', { id: policy.id, body: {} })).runId);
}, 90_000);
afterAll(async () => {
  await h.stop();
  await service.stop();
});

const detail = (id = workloadId) => admin.call('workload', { id });
const snapshots = async (id = workloadId) => (await detail(id)).pointList.filter((p) => p.kind === 'snapshot');
const first = async () => (await snapshots())[0]!;
const tree = (id: string, path: string) => admin.call('tree', { id, query: { path } });
const write = (content: string) =>
  letGuestWrite(service.platform, 'gate-01', 'system', [{ path: '/var/log/gate.log', content: Buffer.from(content) }]);
const download = async (pointId: string, path: string) => {
  const body = { picks: [{ pointId, path }], destination: { to: 'download' as const, format: 'file' as const }, reason: 'to be looked at' };
  const { runId } = await admin.call('startRestore', { body });
  const data = Buffer.from(await (await admin.fetch('download', { id: runId })).arrayBuffer());
  await admin.ended(runId);
  return data;
};

describe('snapshots that a storage keeps', () => {
  it('are taken of all its disks at once, and stand beside the points of each machine', async () => {
    const before = await detail();
    await write('as it was\n');
    expect(await admin.call('takeSnapshot', { id: workloadId, body: { name: 'before the change' } })).toEqual({ storages: ['fast'] });
    await write('as it is now\n');
    const [snapshot] = await snapshots();
    expect(snapshot).toMatchObject({
      kind: 'snapshot',
      runId: null,
      onStorage: { storage: 'fast', platform: 'Harbour platform', name: 'before the change' },
      machine: { level: 'crash', disks: [{ label: 'system', file: 'disks/system.raw' }] },
    });
    expect(snapshot!.copies).toMatchObject([{ target: 'fast', keepWhy: 'kept by the storage, on Harbour platform: lost with it' }]);
    expect(await snapshots(otherId)).toHaveLength(1);
    // it counts as no copy and no point of a policy
    const { spread, allBytes, missing } = await detail();
    expect({ spread, allBytes, missing }).toEqual({ spread: before.spread, allBytes: before.allBytes, missing: before.missing });
  });

  it('that others had taken are found when the platform is read, and gone when it keeps them no more', async () => {
    const taken = service.snapshots.take('fast', 'every night');
    await admin.call('readPlatform', { id: platformId });
    expect((await snapshots()).map((p) => p.onStorage?.name)).toEqual(['before the change', 'every night']);
    const [, second] = await snapshots();
    service.snapshots.remove('fast', taken.id);
    const asked = admin.call('tree', { id: second!.id, query: { path: 'disks/system.raw' } });
    await expect(asked).rejects.toMatchObject({ code: 'MOVER_FAILED' });
    await admin.call('readPlatform', { id: platformId });
    expect(await snapshots()).toHaveLength(1);
    await expect(tree(second!.id, '')).rejects.toMatchObject({ code: 'POINT_GONE' });
  });

  it('are walked into like points, and files come back from within as they were', async () => {
    const { id } = await first();
    expect((await tree(id, '')).rows).toMatchObject([{ name: 'disks', kind: 'folder', items: 1 }]);
    expect((await tree(id, 'disks')).rows).toMatchObject([{ name: 'system.raw', kind: 'file', opens: true, size: 128 << 20 }]);
    expect((await tree(id, 'disks/system.raw')).rows).toMatchObject([{ name: 'p1' }, { name: 'p2', about: 'ext4 “system”' }]);
    await expect(tree(id, 'no')).rejects.toMatchObject({ code: 'NOT_FOUND' });
    await expect(tree(id, 'disks/other.raw/p1')).rejects.toMatchObject({ code: 'NOT_FOUND' });
    expect((await admin.call('preview', { id, query: { path: log } })) as object).toMatchObject({ as: 'text', text: 'as it was\n' });
    expect((await download(id, log)).toString()).toBe('as it was\n');
    const folder = `${h.folder}/from-snapshot`;
    const body = { picks: [{ pointId: id, path: log }], destination: { to: 'folder' as const, folder, keepPath: false } };
    const plan = await admin.call('planRestore', { body: { ...body, reason: '' } });
    expect(plan.readFrom).toEqual([{ target: 'fast', points: 1 }]);
    expect(plan.checks.map((c) => c.code)).toContain('ON_STORAGE');
    const { runId } = await admin.call('startRestore', { body: { ...body, reason: 'a log is wanted' } });
    expect((await admin.ended(runId)).state).toBe('done');
    expect(fs.readFileSync(`${folder}/gate.log`, 'utf8')).toBe('as it was\n');
    const back = { picks: [{ pointId: id, path: log }], destination: { to: 'original' as const }, rule: 'replace' as const };
    const inside = await admin.call('startRestore', { body: { ...back, reason: 'a log is wanted' } });
    expect((await admin.ended(inside.runId)).state).toBe('done');
    expect(String(await service.files.read(service.platform.named('gate-01'), '/var/log/gate.log'))).toBe('as it was\n');
  });

  it('are attached as devices; a disk of one is byte for byte what the storage keeps', async () => {
    const { id } = await first();
    const picks = [{ pointId: id, path: 'disks/system.raw' }];
    const { runId } = await admin.call('startRestore', { body: { picks, destination: { to: 'attached', hours: 1 }, reason: 'to look' } });
    await vi.waitFor(
      async () => {
        if (!(await admin.call('attached', { id: runId })).at) throw new Error('not there yet');
      },
      { timeout: 20_000 },
    );
    await admin.call('stopRun', { id: runId });
    await admin.ended(runId);
    const [kept] = service.snapshots.all();
    const machine = service.platform.named('gate-01');
    const held = service.snapshots.read('fast', kept!.id, machine.disks[0]!.id, [[0, machine.disks[0]!.size]]);
    expect((await download(id, 'disks/system.raw')).equals(held)).toBe(true);
  });

  it('give no whole machine back: that comes from a target, which one is copied to, once', async () => {
    const [snapshot] = await snapshots();
    for (const destination of [{ to: 'original' }, { to: 'platform', platformId, host: 'mole-1', folder: '/', storage: 'fast' }] as const)
      await expect(
        admin.call('planRestore', { body: { picks: [{ pointId: snapshot!.id, path: '' }], destination, reason: '' } }),
      ).rejects.toThrow('copy the snapshot to one first');
    for (const call of [
      () => admin.call('holdPoint', { id: snapshot!.id, body: { reason: 'to keep it' } }),
      () => admin.call('compare', { id: snapshot!.id, query: { path: 'disks', folder: 'yes' } }),
    ])
      await expect(call()).rejects.toMatchObject({ code: 'NOT_FOUND' });
    const copy = () => admin.call('copySnapshot', { id: snapshot!.id, body: { targetId, days: 30, reason: 'to last' } });
    await write('much later\n');
    const run = await admin.ended((await copy()).runId);
    expect(run).toMatchObject({ state: 'done' });
    const point = (await detail()).pointList.find((p) => p.runId === run.id)!;
    expect(point).toMatchObject({ kind: 'full', moment: snapshot!.moment, machine: { level: 'crash' } });
    expect((await download(point.id, log)).toString()).toBe('as it was\n');
    await expect(copy()).rejects.toMatchObject({ code: 'NOT_NOW' });
    const picks = [{ pointId: point.id, path: '' }];
    const place = {
      to: 'platform' as const,
      platformId,
      host: 'rock-1',
      folder: '/Restored',
      storage: 'cellar',
      networks: ['rock'],
      suffix: '-back',
    };
    const back = await admin.call('startRestore', { body: { picks, destination: place, reason: 'to see it whole' } });
    expect((await admin.ended(back.runId)).state).toBe('done');
    expect(soundDisks(service, 'gate-01-back')).toHaveLength(1);
  });

  it('outlive their machine, and are copied still', async () => {
    const machine = service.platform.named('gate-02');
    service.platform.change(machine.id, { running: false });
    service.platform.remove(machine.id);
    await admin.call('readPlatform', { id: platformId });
    const [snapshot] = await snapshots(otherId);
    const { runId } = await admin.call('copySnapshot', { id: snapshot!.id, body: { targetId, days: null } });
    expect((await admin.ended(runId)).state).toBe('done');
    const points = (await detail(otherId)).pointList;
    expect(points.map((p) => p.kind)).toEqual(expect.arrayContaining(['snapshot', 'full']));
    await expect(admin.call('takeSnapshot', { id: otherId, body: {} })).rejects.toMatchObject({ code: 'NOT_NOW' });
  });

  it('are let go for all machines in them, by those who may', async () => {
    const { id } = await first();
    await expect((await h.as('operator')).call('removeSnapshot', { id })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
    await expect((await h.as('auditor')).call('takeSnapshot', { id: workloadId, body: {} })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
    await admin.call('removeSnapshot', { id });
    expect(service.snapshots.all()).toEqual([]);
    expect(await snapshots()).toEqual([]);
    expect(await snapshots(otherId)).toEqual([]);
  });

  it('are refused with the right that lacks', async () => {
    service.signIn.setAccount({ ...keeper, rights: platformRights.filter((r) => r !== 'snapshot.manage') });
    await expect(admin.call('takeSnapshot', { id: workloadId, body: {} })).rejects.toMatchObject({ code: 'MOVER_FAILED' });
    service.signIn.setAccount(keeper);
  });
});
