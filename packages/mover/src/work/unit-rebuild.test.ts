import { randomBytes } from 'node:crypto';
import { once } from 'node:events';
import fs from 'node:fs';
import net, { type Socket } from 'node:net';
import { beRebuilt, closePools, connectorOf, HostLimits, type RestoreContext, type UnitHands } from '@lithodex/connectors';
import { DiskFolder, Store, topEntry, type Root } from '@lithodex/engine';
import type { ServerSystem, UnitTo } from '@lithodex/kinds';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { describeTree, diskUse, makeNastyTree, temporaryFolder } from '../../../../tests/support/nasty-tree';
import { pointRequest, quietly } from '../../../../tests/support/store-kit';
import { takePoint } from './take-point';

let base: string;
let store: Store;
const sockets: Socket[] = [];
const servers: net.Server[] = [];

beforeEach(async () => {
  base = temporaryFolder('unit');
  fs.mkdirSync(`${base}/store`);
  makeNastyTree(`${base}/source/srv/odd`);
  fs.mkdirSync(`${base}/source/var/gate/deep`, { recursive: true });
  fs.chmodSync(`${base}/source/var/gate`, 0o2750);
  fs.writeFileSync(`${base}/source/var/gate/deep/log`, 'north opened');
  store = await Store.create(new DiskFolder(`${base}/store`), randomBytes(32), new Date(0));
});
afterEach(async () => {
  for (const one of sockets.splice(0)) one.destroy();
  for (const one of servers.splice(0)) one.close();
  await closePools();
  fs.rmSync(base, { recursive: true, force: true });
});

const volume = (device: string, mount: string) => ({
  device,
  layer: 'partition' as const,
  on: [device],
  fileSystem: 'ext4',
  uuid: '',
  label: '',
  bytes: 1e9,
  used: 1e6,
  mount,
  options: '',
  taken: true,
});
const system = {
  host: 'quay-gate',
  machineId: '',
  system: '',
  firmware: 'uefi',
  bootEntries: [],
  architecture: 'x86_64',
  processor: '',
  cores: 1,
  memory: 1e9,
  disks: [],
  volumes: [volume('sda1', '/'), volume('sda2', '/var/gate'), { ...volume('sda3', '/srv/left'), taken: false }],
  loader: '',
  kernels: [],
  cards: [],
  routes: [],
  nameServers: [],
  controllers: [],
  zone: '',
  packages: 0,
  unread: {},
} satisfies ServerSystem;
const disk = { id: 'A', bytes: 1e9, serial: '', model: '', port: '', first: true, holds: '' };
const partition = (no: number, device: string) => ({ no, start: no << 20, bytes: 1 << 20, for: { volume: device } });
const to: UnitTo = {
  name: 'C4-07',
  firmware: 'uefi',
  disks: [disk],
  layout: [{ disk: 'A', table: 'gpt', partitions: [partition(1, 'sda1'), partition(2, 'sda2')] }],
  asItself: true,
};

/** Both ends of a connection. */
async function line(): Promise<[Socket, Socket]> {
  const server = net.createServer().listen(`${base}/line-${servers.length}`);
  servers.push(server);
  await once(server, 'listening');
  const coming = once(server, 'connection') as Promise<[Socket]>;
  const near = net.connect(`${base}/line-${servers.length - 1}`);
  const [far] = await coming;
  sockets.push(near, far);
  return [near, far];
}

/** Hands that put volumes into folders. */
const hands = (more: Partial<Awaited<ReturnType<UnitHands['begin']>>> = {}, holds = ''): UnitHands => ({
  facts: () =>
    Promise.resolve({
      ...{ firmware: 'uefi', architecture: 'x86_64', processor: '', cores: 1, memory: 1e9, cards: [], controllers: [], clock: 0 },
      disks: [{ ...disk, holds }],
    }),
  halfMade: () => Promise.resolve(new Map()),
  begin: () =>
    Promise.resolve({
      folderOf: (device) => {
        fs.mkdirSync(`${base}/made/${device}`, { recursive: true });
        return Promise.resolve(`${base}/made/${device}`);
      },
      finish: () => Promise.resolve(),
      giveUp: () => {
        fs.rmSync(`${base}/made`, { recursive: true, force: true });
        return Promise.resolve();
      },
      ...more,
    }),
});

async function rebuild(unit: UnitHands, onUnit: (far: Socket) => unknown = (far) => beRebuilt(far, unit, () => Promise.resolve())) {
  await takePoint(store, pointRequest(`${base}/source`, 't1', null), quietly);
  const found = (await store.root('s1', 't1'))!.root;
  const root: Root = { ...found, content: { ...found.content, facts: { kind: 'server', system, parts: [] } } };
  const point = { kept: store, store, root, top: topEntry(root) };
  const phases: string[] = [];
  const ctx: RestoreContext = {
    taskId: crypto.randomUUID(),
    trial: false,
    edited: undefined,
    limits: HostLimits.none,
    unit: async (_, use) => {
      const [near, far] = await line();
      onUnit(far);
      return use(near);
    },
    phase: (name) => phases.push(name),
    note: () => undefined,
    done: () => undefined,
    drain: () => undefined,
    moved: () => undefined,
    stopped: () => false,
  };
  const pick = { open: () => Promise.resolve(point), find: () => Promise.reject(new Error('not asked')), path: '', to: '', base: '' };
  const outcome = await (await connectorOf('files')).restore(ctx, [pick], { kind: 'files', rule: 'leave', stamp: '', unit: to });
  return { outcome, phases };
}

describe('a server that is sent to a unit', () => {
  it('comes back volume by volume, an awkward tree identical, holes and all', async () => {
    const { outcome, phases } = await rebuild(hands());
    expect(outcome.summary).toContain('quay-gate stands on C4-07');
    expect(phases).toEqual(expect.arrayContaining(['preparing disks', 'writing /', 'writing /var/gate', 'comparing']));
    expect(describeTree(`${base}/made/sda1/srv`)).toBe(describeTree(`${base}/source/srv`));
    expect(describeTree(`${base}/made/sda2`).replace(/^\|d\|.*$/m, '')).toBe(
      describeTree(`${base}/source/var/gate`).replace(/^\|d\|.*$/m, ''),
    );
    expect(fs.readdirSync(`${base}/made/sda1/var/gate`)).toEqual([]);
    expect(fs.statSync(`${base}/made/sda2`).mode & 0o7777).toBe(0o2750);
    expect(diskUse(`${base}/made`)).toBeLessThan(diskUse(`${base}/source`) * 1.2 + (1 << 20));
  });

  it('is told why the unit failed, which leaves nothing', async () => {
    const refuses = hands({ finish: () => Promise.reject(new Error('the disk A failed')) });
    await expect(rebuild(refuses)).rejects.toMatchObject({
      code: 'REBUILD_FAILED',
      message: expect.stringContaining('the disk A failed') as string,
    });
    expect(fs.existsSync(`${base}/made`)).toBe(false);
  });

  it('is not written where a disk holds something by now', async () => {
    await expect(rebuild(hands({}, '“somebody’s data”, ext4'))).rejects.toMatchObject({
      code: 'REBUILD_FAILED',
      message: expect.stringContaining('holds something else now') as string,
    });
    expect(fs.existsSync(`${base}/made`)).toBe(false);
  });

  it('begins anew where the unit is gone or says what is no message', async () => {
    await expect(rebuild(hands(), (far) => far.destroy())).rejects.toMatchObject({ code: 'UNIT_LOST' });
    await expect(rebuild(hands(), (far) => far.write(Buffer.alloc(64, 0xff)))).rejects.toMatchObject({ code: 'LINK_BROKEN' });
  });
});
