import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import {
  closePools,
  connectorOf,
  findItem,
  HostLimits,
  imageBlock as block,
  openStraight,
  platformClient,
  type OpenPoint,
} from '@lithodex/connectors';
import { DiskFolder, Store, topEntry } from '@lithodex/engine';
import type { DataWay, MachineDestination, PlatformRef } from '@lithodex/kinds';
import type { PlatformService } from '@lithodex/standins';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { machineOf, startPlatform } from '../../../../tests/support/platform';
import { quietly } from '../../../../tests/support/store-kit';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import { takePoint } from './take-point';

const MiB = 1 << 20;
const size = 24 * MiB;
let base: string;
let service: PlatformService;
let platform: PlatformRef;
let store: Store;
let tasks = 0;

beforeAll(async () => {
  base = temporaryFolder('straight');
  const started = await startPlatform(`${base}/platform`);
  ({ service } = started);
  const { storages, ...parts } = service.platform.description;
  service.platform.describe({ ...parts, storages: storages.map((s) => ({ ...s, straight: s.name === 'fast' })) });
  platform = { id: null, endpoint: started.endpoint, opener: started.body.opener!, way: 'straight', family: 'hosts' };
  fs.mkdirSync(`${base}/store`);
  store = await Store.create(new DiskFolder(`${base}/store`), randomBytes(32), new Date(0));
});
afterAll(async () => {
  await closePools();
  await service.stop();
  fs.rmSync(base, { recursive: true, force: true });
});

let made = 0;
const machine = (storage = 'fast', host = 'mole-1') =>
  service.platform.create(
    machineOf(`berth-${++made}`, { host, running: false, networks: [], disks: [{ label: 'system', size, storage }] }),
  );
const diskOf = (id: string) => service.platform.diskOf(id, service.platform.machine(id).disks[0]!.id);
const bytesOf = (id: string) => diskOf(id).bytes(0, size);
const elsewhere = new HostLimits({ read: ['/srv'], write: ['/srv'], backOnly: [], kept: [] });

async function take(id: string, more: { way?: DataWay; previous?: string; limits?: HostLimits; atSnapshot?: () => void } = {}) {
  const notes: string[] = [];
  const taskId = `t${++tasks}`;
  const { way = 'straight', previous = null, limits = HostLimits.none } = more;
  const from = { kind: 'machine' as const, platform: { ...platform, way }, id, cluster: '', location: '', inside: null, snapshot: null };
  const workload = { id: 'w', name: 'berth', source: 'harbour', path: '' };
  const { root } = await takePoint(
    store,
    { taskId, seriesId: `s-${id}`, workload, kind: 'incremental', previous, moment: 1, include: [], exclude: [], from },
    {
      ...quietly,
      limits,
      note: ({ code, message }) => {
        if (code === 'SNAPSHOT') more.atSnapshot?.();
        if (code === 'WAY') notes.push(message);
      },
    },
  );
  const point: OpenPoint = { kept: store, store, root, top: topEntry(root) };
  return { taskId, notes, point };
}

async function restore(point: OpenPoint, destination: MachineDestination, limits = HostLimits.none): Promise<string[]> {
  const notes: string[] = [];
  const nothing = () => undefined;
  await (
    await connectorOf('machine')
  ).restore(
    {
      taskId: `r${++tasks}`,
      trial: false,
      edited: undefined,
      limits,
      phase: nothing,
      note: ({ code, message }) => {
        if (code === 'WAY') notes.push(message);
      },
      done: nothing,
      drain: nothing,
      moved: nothing,
      stopped: () => false,
    },
    [{ open: () => Promise.resolve(point), find: () => findItem(point, 'machine.json'), path: '', to: '', base: '' }],
    { kind: 'machine', platform, destination },
  );
  return notes;
}
const home: MachineDestination = { to: 'original', start: false, now: null, removeFirst: false };

describe('the data of a machine on a storage that the mover sees', () => {
  it('is read where it lies, and what is written meanwhile from the snapshot', async () => {
    const { id } = machine();
    diskOf(id).write(0, randomBytes(5 * MiB));
    const then = bytesOf(id);
    const { read } = diskOf(id);
    const { point, notes, taskId } = await take(id, {
      atSnapshot: () => {
        diskOf(id).write(MiB, randomBytes(100));
        diskOf(id).write(20 * MiB, randomBytes(100));
      },
    });
    expect(notes).toEqual(['system is read straight from fast']);
    expect(diskOf(id).read - read).toBe(2 * block);
    await restore(point, home);
    expect(bytesOf(id).equals(then)).toBe(true);
    diskOf(id).write(3 * MiB, Buffer.from('changed since'));
    const now = bytesOf(id);
    const later = await take(id, { previous: taskId });
    expect(later.point.root.content.changes?.changed).toBe(1);
    await restore(later.point, home);
    expect(bytesOf(id).equals(now)).toBe(true);
  });

  it('is written where it lies: what changed is known to the platform, and its snapshots stay what they were', async () => {
    const { id } = machine();
    diskOf(id).write(0, randomBytes(4 * MiB));
    const { point, taskId } = await take(id);
    diskOf(id).write(2 * MiB, randomBytes(block));
    const between = bytesOf(id);
    const snapshot = service.platform.takeSnapshot(id, 'by hand', false);
    expect(await restore(point, home)).toEqual(['system is written straight to fast']);
    expect(diskOf(id).bytes(0, size, snapshot.id).equals(between)).toBe(true);
    const { notes, point: again } = await take(id, { previous: taskId });
    expect(notes).toHaveLength(1);
    expect(again.root.totals.read).toBe(block);
    expect(again.root.content.changes).toMatchObject({ changed: 0, added: 0, removed: 0 });
  });

  it.each([
    ['on a storage whose places nobody tells', 'the platform does not say where it lies', 'cellar', () => HostLimits.none],
    ['out of the bounds of the mover', 'the mover does not see it at', 'fast', () => elsewhere],
  ] as const)('goes over the network %s, which is said, and is the same', async (_where, why, storage, limits) => {
    const { id } = machine(storage, storage === 'cellar' ? 'rock-1' : 'mole-1');
    diskOf(id).write(0, randomBytes(2 * MiB));
    const then = bytesOf(id);
    const { point, notes } = await take(id, { limits: limits() });
    expect(notes).toEqual([expect.stringContaining(`system is read over the network: ${why}`)]);
    diskOf(id).write(0, randomBytes(MiB));
    expect(await restore(point, home, limits())).toEqual([expect.stringContaining(`system is written over the network: ${why}`)]);
    expect(bytesOf(id).equals(then)).toBe(true);
  });

  it('follows no link to a disk, and writes nothing there', async () => {
    const { id, disks } = machine();
    diskOf(id).write(0, randomBytes(MiB));
    const { point } = await take(id);
    const file = service.platform.fileOf(id, disks[0]!.id);
    fs.renameSync(file, `${file}.real`);
    fs.writeFileSync(`${base}/victim`, Buffer.alloc(size, 1));
    fs.symlinkSync(`${base}/victim`, file);
    diskOf(id).write(0, randomBytes(100));
    expect(await restore(point, home)).toEqual([expect.stringContaining('over the network: the mover does not see it')]);
    expect(fs.readFileSync(`${base}/victim`).equals(Buffer.alloc(size, 1))).toBe(true);
  });

  it('is reached no more once its task has let it go', async () => {
    const { id, disks } = machine();
    const opened = await openStraight(platformClient(platform), id, disks[0]!, { limits: HostLimits.none, writes: true });
    if (typeof opened === 'string') throw new Error(opened);
    opened.close();
    expect(() => opened.read([[0, block]])).toThrow(expect.objectContaining({ code: 'STOPPED' }) as Error);
    expect(() => {
      opened.write([[0, block]], [Buffer.alloc(block, 1)]);
    }).toThrow(expect.objectContaining({ code: 'STOPPED' }) as Error);
    expect(diskOf(id).bytes(0, block).equals(Buffer.alloc(block))).toBe(true);
  });

  it('goes over the network where that is wished', async () => {
    const { id } = machine();
    diskOf(id).write(0, randomBytes(MiB));
    const { read } = diskOf(id);
    expect((await take(id, { way: 'network' })).notes).toEqual([]);
    expect(diskOf(id).read - read).toBe(MiB);
  });
});
