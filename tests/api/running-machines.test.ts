import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import net from 'node:net';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import type { BodyInput, RunningRow } from '@lithodex/contract';
import { letGuestWrite, platformFine, type PlatformService } from '@lithodex/standins';
import { itLong } from '../support/by-command';
import { Harness, policyFor, type Client } from '../support/harness';
import { buildLogger, startPlatform } from '../support/platform';

let h: Harness;
let admin: Client;
let service: PlatformService;
let platformId: number;
let pointId: string;
let targetId: string;
let policyId: number;
const MiB = 1 << 20;

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 3000, ownDatabase: true });
  admin = await h.withToken('administrator');
  ({ targetId } = await h.connect(admin));
  const started = await startPlatform(`${h.folder}/platform`);
  ({ service } = started);
  await buildLogger(service, 'gate-01', {
    disks: [
      { label: 'system', size: 128 * MiB, storage: 'fast' },
      { label: 'data', size: 40 * 1024 * MiB, storage: 'fast' },
    ],
  });
  await buildLogger(service, 'gate-02');
  ({ id: platformId } = await admin.call('addPlatform', { body: started.body }));
  const workloadId = (await admin.call('estate')).workloads.find((w) => w.name === 'gate-01')!.id;
  const other = (await admin.call('estate')).workloads.find((w) => w.name === 'gate-02')!.id;
  ({ id: policyId } = await admin.call('addPolicy', { body: policyFor([workloadId, other], targetId) }));
  await admin.ended((await admin.call('runPolicy', { id: policyId, body: {} })).runId);
  pointId = (await admin.call('workload', { id: workloadId })).pointList[0]!.id;
}, 90_000);
afterAll(async () => {
  await h.stop();
  await service.stop();
});

type Place = Extract<BodyInput<'startRestore'>['destination'], { to: 'running' }>;
const bodyOf = (more: Partial<Place> = {}): BodyInput<'startRestore'> => ({
  picks: [{ pointId, path: '' }],
  reason: 'the machine is wanted at once',
  destination: {
    to: 'running',
    platformId,
    host: 'mole-1',
    folder: '/Harbour',
    networks: [],
    suffix: '-again',
    overlay: { most: 512 * MiB },
    ...more,
  },
});
const row = async (runId: number) => (await admin.call('listRunning')).rows.find((r) => r.runId === runId);
const rowWhere = (runId: number, is: (row: RunningRow) => boolean) =>
  vi.waitFor(
    async () => {
      const found = await row(runId);
      if (!found || !is(found)) throw new Error(JSON.stringify(found));
      return found;
    },
    { timeout: 60_000, interval: 100 },
  );
const start = async (more: Partial<Place> = {}) => {
  const { runId } = await admin.call('startRestore', { body: bodyOf(more) });
  return rowWhere(runId, (r) => r.now?.state === 'running');
};
const steer = ({ taskId }: RunningRow, body: BodyInput<'steerRunning'>) => admin.call('steerRunning', { id: taskId, body });
const log = async (id: number) => (await admin.call('runLog', { id, query: {} })).rows.map((l) => l.code);
const bytesOf = (name: string, disk: number, offset: number, length: number) => {
  const machine = service.platform.named(name);
  return service.platform.diskOf(machine.id, machine.disks[disk]!.id).bytes(offset, length);
};
const write = (name: string, disk: number, offset: number, data: Buffer) =>
  service.platform.write(service.platform.named(name).disks[disk]!.id, offset, data);
const overlays = () => (fs.existsSync(`${h.folder}/overlays`) ? fs.readdirSync(`${h.folder}/overlays`) : []);

describe('a machine that runs from the store', () => {
  it('is told beforehand, and refused where it can not be', async () => {
    const plan = await admin.call('planRestore', { body: { name: 'x', ...bodyOf() } });
    expect(plan.checks.map((c) => c.code)).toEqual(expect.arrayContaining(['STARTS_AT_ONCE', 'OVERLAY']));
    expect(plan.items[0]!.goesTo).toBe('gate-01-again, run from the store on mole-1, on no network');
    const onQuay = await admin.call('planRestore', { body: { name: 'x', ...bodyOf({ networks: ['quay'] }) } });
    expect(onQuay.checks.find((c) => c.code === 'TWIN_RUNS')?.level).toBe('look');
    const { clusters } = await admin.call('platformPlaces', { id: platformId });
    expect(clusters.map((c) => c.isolated)).toEqual([['proof'], []]);
    const isolated = await admin.call('planRestore', { body: { name: 'x', ...bodyOf({ networks: ['proof'] }) } });
    expect(isolated.checks.map((c) => c.code)).not.toContain('TWIN_RUNS');
    for (const [more, check] of [
      [{ suffix: '' }, 'NAME_TAKEN'],
      [{ suffix: '/again' }, 'NAME_FORBIDDEN'],
      [{ host: 'gone-1' }, 'NO_HOST'],
      [{ networks: ['rock'] }, 'NO_NETWORK'],
    ] as const)
      await expect(
        admin.call('startRestore', { body: bodyOf({ ...more, networks: [...('networks' in more ? more.networks : [])] }) }),
      ).rejects.toMatchObject({
        details: { check },
      });
    const disk = { ...bodyOf(), picks: [{ pointId, path: 'disks/system.raw' }] };
    await expect(admin.call('startRestore', { body: disk })).rejects.toMatchObject({ code: 'INVALID' });
    for (const [overlay, code] of [
      [{ most: 2 ** 50 }, 'OVERLAY_NO_ROOM'],
      [{ most: MiB, folder: `${h.folder}/keys` }, 'OUT_OF_BOUNDS'],
      [{ most: MiB, folder: `${h.folder}/store` }, 'OUT_OF_BOUNDS'],
    ] as const) {
      const { runId } = await admin.call('startRestore', { body: bodyOf({ overlay }) });
      expect((await admin.ended(runId)).cause?.code).toBe(code);
    }
    expect(service.platform.inventory().machines.map((m) => m.name)).toEqual(['gate-01', 'gate-02']);
  });

  it('starts whatever its size, without being copied, writes beside the point, and is dropped with that', async () => {
    const before = bytesOf('gate-01', 0, 0, 128 * MiB);
    const running = await start();
    expect(running).toMatchObject({ name: 'gate-01-again', host: 'mole-1', networks: [], moment: expect.any(Number), wish: { to: 'run' } });
    // its start has read the front of each disk, and no more
    for (const disk of running.now!.disks) expect(disk.copied).toBeLessThanOrEqual(65_536);
    expect(running.now).toMatchObject({
      overlay: { used: 0, most: 512 * MiB },
      disks: [{ label: 'system' }, { label: 'data', size: 40 * 1024 * MiB }],
    });
    expect(service.platform.named('gate-01-again')).toMatchObject({ running: true, networks: [] });
    expect(JSON.stringify(await admin.call('listRunning'))).not.toMatch(/[0-9a-f]{64}/);
    expect(JSON.stringify(service.platform.inventory())).not.toMatch(/[0-9a-f]{64}/);
    const inside = await service.files.read(service.platform.named('gate-01-again'), '/etc/hostname');
    expect(inside.toString()).toBe('gate-01\n');
    await letGuestWrite(service.platform, 'gate-01-again', 'system', [{ path: '/etc/note', content: Buffer.from('written meanwhile') }]);
    expect((await service.files.read(service.platform.named('gate-01-again'), '/etc/note')).toString()).toBe('written meanwhile');
    const used = (await rowWhere(running.runId, (r) => r.now!.overlay.used > 0)).now!.overlay.used;
    await expect(admin.call('stopRun', { id: running.runId })).rejects.toMatchObject({ code: 'NOT_NOW' });
    await expect((await h.as('operator')).call('steerRunning', { id: running.taskId, body: { to: 'drop' } })).rejects.toMatchObject({
      code: 'NOT_ALLOWED',
    });
    expect((await (await h.as('clerk')).call('listRunning')).rows).toEqual([]);
    expect(overlays()).toHaveLength(1);
    await steer(running, { to: 'drop' });
    const ended = await admin.ended(running.runId);
    expect(ended.state).toBe('done');
    // what was told may be from the middle of what the guest wrote
    expect(ended.counts.bytes).toBeGreaterThanOrEqual(used);
    expect(() => service.platform.named('gate-01-again')).toThrow();
    expect(overlays()).toEqual([]);
    expect((await admin.call('audit', { query: { limit: 5 } })).rows.map((r) => r.action)).toContain('running.wish');
    expect(bytesOf('gate-01', 0, 0, 128 * MiB).equals(before)).toBe(true);
  });

  itLong('can be given up where the mover that has what it wrote does not come back', async () => {
    const running = await start();
    await h.killMover('mover-1');
    await rowWhere(running.runId, (r) => r.mover === null);
    await h.server.deps.db.raw("UPDATE task SET work = JSON_SET(work, '$.heldBy', 'gone for ever') WHERE id = ?", [running.taskId]);
    await admin.call('stopRun', { id: running.runId });
    expect(await admin.ended(running.runId)).toMatchObject({ state: 'stopped' });
    // what it wrote is nobody's to remove but who runs the host
    for (const left of overlays()) fs.rmSync(`${h.folder}/overlays/${left}`, { recursive: true });
    h.startMover('mover-1');
    const machine = service.platform.named('gate-01-again');
    service.platform.change(machine.id, { running: false });
    service.platform.remove(machine.id);
  });

  it('keeps what it wrote when mover and server are killed, and leaves the store while it runs, equal to the byte', async () => {
    const running = await start();
    const name = 'gate-01-again';
    const written = new Map<number, Buffer>();
    const put = async (offset: number, bytes: number) => {
      const data = randomBytes(bytes);
      written.set(offset, data);
      await write(name, 1, offset, data);
    };
    await put(39 * 1024 * MiB + 777, 100_000);
    await put(512, 3);
    await h.killMover('mover-1');
    const late = put(5 * 1024 * MiB, 3 * MiB);
    await h.detachServer();
    await h.killServer();
    await h.detachServer();
    h.startMover('mover-1');
    await late;
    await rowWhere(running.runId, (r) => r.mover === 'mover-1' && r.now?.state === 'running' && r.now.overlay.used > 3 * MiB);
    expect(await log(running.runId)).toContain('MACHINE_GOES_ON');
    await expect(steer(running, { to: 'copy', storage: 'cellar', pace: null })).rejects.toMatchObject({ code: 'INVALID' });
    await steer(running, { to: 'copy', storage: 'fast', pace: null });
    await put(7 * 1024 * MiB + 4095, 2);
    const copied = await rowWhere(running.runId, (r) => r.now?.state === 'copied');
    expect(copied.now!.disks.map((d) => d.copied === d.toCopy && d.storage)).toEqual(['fast', 'fast']);
    await put(39 * 1024 * MiB + 800, 5000);
    await steer(running, { to: 'cutOver', storage: 'fast', pace: null, stopped: false });
    expect(await admin.ended(running.runId)).toMatchObject({ state: 'done' });
    expect(await log(running.runId)).toContain('MACHINE_LEFT');
    expect(overlays()).toEqual([]);
    const machine = service.platform.named(name);
    expect(machine.disks.map((d) => [d.storage, d.remote])).toEqual([
      ['fast', undefined],
      ['fast', undefined],
    ]);
    expect(machine).toMatchObject({ running: true, note: '' });
    const first = written.get(39 * 1024 * MiB + 777)!;
    written.get(39 * 1024 * MiB + 800)!.copy(first, 23);
    for (const [offset, data] of written) expect(bytesOf(name, 1, offset, data.length).equals(data), `at ${offset}`).toBe(true);
    const expected = bytesOf('gate-01', 1, 0, 64 * MiB);
    written.get(512)!.copy(expected, 512);
    expect(bytesOf(name, 1, 0, 64 * MiB).equals(expected)).toBe(true);
    expect(bytesOf(name, 0, 0, 128 * MiB).equals(bytesOf('gate-01', 0, 0, 128 * MiB))).toBe(true);
    service.platform.change(machine.id, { running: false });
    service.platform.remove(machine.id);
  });

  itLong('is cut over with a short stop where the platform can not move it while it runs', async () => {
    service.platform.switches = { ...platformFine, movesWhileRunning: false };
    const running = await start();
    await steer(running, { to: 'cutOver', storage: 'fast', pace: null, stopped: false });
    const stuck = await rowWhere(running.runId, (r) => r.now!.problem !== '');
    expect(stuck.now!.problem).toContain('running');
    expect(service.platform.named('gate-01-again').running).toBe(true);
    await steer(running, { to: 'cutOver', storage: 'fast', pace: null, stopped: true });
    expect(await admin.ended(running.runId)).toMatchObject({ state: 'done' });
    const machine = service.platform.named('gate-01-again');
    expect(machine).toMatchObject({ running: true, disks: [{ storage: 'fast' }, { storage: 'fast' }] });
    service.platform.switches = platformFine;
    service.platform.change(machine.id, { running: false });
    service.platform.remove(machine.id);
  });

  itLong('may write no more than there is room for, and somebody is warned before', async () => {
    const running = await start({ overlay: { most: 2 * MiB } });
    await write('gate-01-again', 1, 0, randomBytes(1.8 * MiB));
    await vi.waitFor(async () => expect(await log(running.runId)).toContain('OVERLAY_FILLS'), 30_000);
    await expect(write('gate-01-again', 1, 8 * MiB, randomBytes(MiB))).rejects.toThrow('refused: 28');
    await write('gate-01-again', 1, 4096, randomBytes(4096));
    await steer(running, { to: 'drop' });
    expect(await admin.ended(running.runId)).toMatchObject({ state: 'done' });
  });

  itLong('ends by itself where somebody takes it away on the platform, or where it can not be started', async () => {
    const running = await start();
    const machine = service.platform.named('gate-01-again');
    service.platform.change(machine.id, { running: false });
    service.platform.remove(machine.id);
    expect(await admin.ended(running.runId)).toMatchObject({ state: 'done' });
    expect(await log(running.runId)).toContain('MACHINE_GONE');
    service.platform.switches = { ...platformFine, down: true };
    const { runId } = await admin.call('startRestore', { body: bodyOf() }).catch(() => ({ runId: 0 }));
    expect(runId).toBe(0);
    service.platform.switches = platformFine;
    expect(overlays()).toEqual([]);
  });

  it('shows its disks to nobody without the key', async () => {
    const running = await start();
    const { remote } = service.platform.named('gate-01-again').disks[0]!;
    const heard = await new Promise<Buffer>((resolve) => {
      const parts: Buffer[] = [];
      const socket = net.connect(remote!.port, remote!.host, () =>
        socket.write(
          Buffer.concat([Buffer.from([0, 0, 0, 3]), Buffer.from('IHAVEOPT'), Buffer.from([0, 0, 0, 1, 0, 0, 0, 6]), Buffer.from('disk-0')]),
        ),
      );
      socket.on('data', (part) => parts.push(part)).on('close', () => resolve(Buffer.concat(parts)));
    });
    expect(heard.length).toBe(18);
    await steer(running, { to: 'drop' });
    await admin.ended(running.runId);
  });

  it('goes on with its policy and its history where the machine it was is gone, in place of it', async () => {
    const find = async (name: string) => (await admin.call('estate')).workloads.filter((w) => w.name === name);
    const [before] = await find('gate-02');
    const point = (await admin.call('workload', { id: before!.id })).pointList[0]!.id;
    const old = service.platform.named('gate-02');
    const bytes = bytesOf('gate-02', 0, 0, 128 * MiB);
    service.platform.change(old.id, { running: false });
    service.platform.remove(old.id);
    await admin.call('readPlatform', { id: platformId });
    expect(await find('gate-02')).toEqual([]);

    const { runId } = await admin.call('startRestore', { body: { ...bodyOf({ suffix: '' }), picks: [{ pointId: point, path: '' }] } });
    const running = await rowWhere(runId, (r) => r.now?.state === 'running');
    await vi.waitFor(
      async () => expect(await find('gate-02')).toMatchObject([{ id: before!.id, gone: null, coverage: before!.coverage }]),
      20_000,
    );
    expect((await admin.call('estateChanges')).rows.slice(0, 2).map((r) => r.detail)).toEqual([
      'from folder /Harbour/Gates to /Harbour, from storage fast to the store',
      'another machine has taken its place',
    ]);
    await write('gate-02', 0, 100 * MiB, randomBytes(MiB));
    await admin.ended((await admin.call('runPolicy', { id: policyId, body: {} })).runId);
    const { pointList } = await admin.call('workload', { id: before!.id });
    expect(pointList.map((p) => p.id)).toContain(point);
    expect(pointList).toHaveLength(2);
    await steer(running, { to: 'cutOver', storage: 'fast', pace: null, stopped: false });
    expect(await admin.ended(runId)).toMatchObject({ state: 'done' });

    // a point of the machine that is gone goes into the one that has its place
    const body = {
      picks: [{ pointId: point, path: '' }],
      reason: 'back once more',
      rescue: false,
      destination: { to: 'original' as const },
    };
    expect((await admin.call('planRestore', { body: { name: 'x', ...body } })).checks.map((c) => c.code)).toContain('MACHINE_RUNNING');
    expect(await admin.ended((await admin.call('startRestore', { body })).runId)).toMatchObject({ state: 'done' });
    expect(bytesOf('gate-02', 0, 0, 128 * MiB).equals(bytes)).toBe(true);

    const beside = {
      ...body,
      destination: { to: 'platform' as const, platformId, host: 'mole-2', folder: '/Harbour', storage: 'fast', suffix: '-copy' },
    };
    await admin.ended((await admin.call('startRestore', { body: beside })).runId);
    await vi.waitFor(async () => expect(await find('gate-02-copy')).toHaveLength(1), 20_000);
    expect((await admin.call('estateChanges')).rows[0]).toMatchObject({
      workload: { name: 'gate-02-copy' },
      detail: 'made from a point of a machine that is still there',
    });
    expect((await find('gate-02-copy'))[0]).toMatchObject({ coverage: 'none' });
  });
});
