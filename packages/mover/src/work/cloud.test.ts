import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import {
  changeIdsOf,
  CloudClient,
  closePools,
  CloudRestore,
  ImageMap,
  MachineRestore,
  PlatformClient,
  storedMachine,
  zeroBlock,
  type SentDisk,
} from '@lithodex/connectors';
import { DiskFolder, keyedHash, Store, topEntry, type Root } from '@lithodex/engine';
import type { CloudDestination, PlatformRef } from '@lithodex/kinds';
import type { CloudService, PlatformService } from '@lithodex/standins';
import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { rounds } from '../../../../tests/support/by-command';
import { skyfjord, startCloud } from '../../../../tests/support/cloud';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import { machineOf, startPlatform } from '../../../../tests/support/platform';
import { quietly } from '../../../../tests/support/store-kit';
import { takePoint } from './take-point';

const MiB = 1 << 20;
const block = 65_536;
/** The last block of the first disk is shorter. */
const sizes = { system: 3 * MiB - 512, data: 2 * MiB };
let base: string;
let hosts: PlatformService;
let sky: CloudService;
let platform: PlatformRef;
let cloud: PlatformRef;
let client: CloudClient;
let store: Store;
let tasks = 0;
let made = 0;

beforeAll(async () => {
  base = temporaryFolder('cloud');
  const started = await startPlatform(`${base}/platform`);
  hosts = started.service;
  const { service, body } = await startCloud(`${base}/cloud`);
  sky = service;
  // as many as there are rounds
  const quota = { instances: 1000, processors: 4000, bytes: 1e15 };
  sky.cloud.describe({ ...skyfjord, regions: skyfjord.regions.map((r) => ({ ...r, quota })) });
  platform = { id: 1, endpoint: started.endpoint, opener: started.body.opener!, way: 'network', family: 'hosts' };
  cloud = { id: 2, endpoint: body.endpoint, opener: body.opener!, way: 'network', family: 'cloud' };
  client = new CloudClient(cloud);
  fs.mkdirSync(`${base}/store`);
  store = await Store.create(new DiskFolder(`${base}/store`), randomBytes(32), new Date(0));
});
afterAll(async () => {
  await client.close();
  await closePools();
  await hosts.stop();
  await sky.stop();
  fs.rmSync(base, { recursive: true, force: true });
});

function machine(): string {
  const disks = Object.entries(sizes).map(([label, size]) => ({ label, size, storage: 'fast' }));
  return hosts.platform.create(machineOf(`quay-${++made}`, { running: false, disks })).id;
}

async function take(of: PlatformRef, id: string, previous: string | null = null): Promise<Root> {
  const taskId = `t${++tasks}`;
  await takePoint(
    store,
    {
      ...{ taskId, seriesId: `s-${id}`, workload: { id: `w-${id}`, name: id, source: '', path: '' } },
      ...{ kind: 'incremental', previous, moment: tasks, include: [], exclude: [] },
      from: { kind: 'machine', platform: of, id, cluster: '', location: '', inside: null, snapshot: null },
    },
    { ...quietly, alive: () => Promise.resolve([]), now: () => tasks },
  );
  return (await store.root(`s-${id}`, taskId))!.root;
}

const destination = (name: string, more: Partial<CloudDestination> = {}): CloudDestination => ({
  ...{ to: 'cloud', name, region: 'fjord-north', size: 'm2', network: 'shore', groups: [], publicAddress: false },
  ...{ classes: {}, class: 'usual', leaveOut: [], tags: [], start: true, ahead: false, hours: null },
  ...more,
});

/** Brings a point into the cloud. Returns what was sent of each disk. */
async function send(root: Root, to: CloudDestination, by = client, taskId = `r${++tasks}`): Promise<SentDisk[]> {
  const sent: SentDisk[] = [];
  await new CloudRestore({
    ...{ client: by, root, top: topEntry(root), stored: await storedMachine(store, topEntry(root)), trees: store.trees, taskId },
    nameKey: store.keys.nameKey,
    readChunk: (name) => store.reader.read(name),
    rootOf: async (series, task) => (await store.root(series, task))?.root,
    destination: to,
    onDisk: (d) => sent.push(d),
    ...{ onInstance: () => undefined, onRemoved: () => undefined, onBytes: () => undefined, phase: () => undefined, stopped: () => false },
  }).run();
  return sent;
}

const homeDisks = (id: string) => hosts.platform.machine(id).disks.map((d) => fs.readFileSync(hosts.platform.fileOf(id, d.id)));
const skyDisks = (name: string) => sky.cloud.named(name).volumes.map((v) => fs.readFileSync(sky.cloud.volumes.fileOf(v)));
const same = (a: readonly Buffer[], b: readonly Buffer[]) => a.length === b.length && a.every((disk, i) => disk.equals(b[i]!));
const lying = () => sky.cloud.volumes.all().filter((v) => v.instance === null);

interface Write {
  readonly disk: 'system' | 'data';
  readonly block: number;
  /** 0 for zeros. */
  readonly fill: number;
}
const writes = fc.array(
  fc.record({
    disk: fc.constantFrom('system' as const, 'data' as const),
    block: fc.integer({ min: 0, max: 31 }),
    fill: fc.integer({ min: 0, max: 5 }),
  }),
  { maxLength: 12 },
);
const bytesOf = ({ disk, block: at, fill }: Write) =>
  Buffer.alloc(Math.max(0, Math.min(block, sizes[disk] - at * block)), fill === 0 ? 0 : `fill ${fill} of ${at % 3}`);
const atHome = (id: string, all: readonly Write[]) => {
  for (const w of all) {
    const disk = hosts.platform.machine(id).disks.find((d) => d.label === w.disk)!;
    hosts.platform.diskOf(id, disk.id).write(w.block * block, bytesOf(w));
  }
};
const inSky = (name: string, all: readonly Write[]) => {
  for (const w of all) {
    const id = sky.cloud.named(name).volumes.find((v) => sky.cloud.volumes.one(v).label === w.disk)!;
    sky.cloud.volumes.disk(id).write(w.block * block, bytesOf(w));
  }
};

/** A cloud that answers so many requests and none after, to a mover that is killed then; `lost`: the last one is done, and its answer gets lost. */
function deadAfter(requests: number, lost: boolean): CloudClient {
  let left = requests;
  return new Proxy(client, {
    get(target, key) {
      const own: unknown = Reflect.get(target, key);
      if (typeof own !== 'function') return own;
      return async (...rest: unknown[]) => {
        left--;
        if (left < 0 || (left === 0 && !lost)) throw new Error('killed');
        const answer: unknown = await (own as (...a: unknown[]) => unknown).apply(target, rest);
        if (left === 0) throw new Error('killed');
        return answer;
      };
    },
  });
}

describe('a machine in a cloud', () => {
  it('is what the point holds, whatever was sent ahead and written since, and only that is sent', async () => {
    await fc.assert(
      fc.asyncProperty(writes, writes, fc.boolean(), async (first, second, ahead) => {
        const id = machine();
        atHome(id, first);
        const before = await take(platform, id);
        const name = `sky-${id}`;
        if (ahead) await send(before, destination(name, { ahead }));
        atHome(id, second);
        const now = await take(platform, id, before.taskId);
        const sent = await send(now, destination(name));
        expect(sent.map((d) => d.before === 'nothing')).toEqual([!ahead, !ahead]);
        expect(same(skyDisks(name), homeDisks(id))).toBe(true);
        expect([lying(), sky.cloud.imports.names()]).toEqual([[], []]);
        expect(sky.cloud.named(name)).toMatchObject({ running: true, note: '' });
      }),
      { numRuns: rounds(10, 200) },
    );
  }, 120_000);

  it('is not made of a volume that somebody wrote on since it was sent ahead', async () => {
    const id = machine();
    atHome(id, [{ disk: 'data', block: 2, fill: 4 }]);
    const root = await take(platform, id);
    const name = `written-${id}`;
    await send(root, destination(name, { ahead: true }));
    const spoiled = lying().find((v) => v.label === 'data')!;
    sky.cloud.volumes.disk(spoiled.id).write(5 * block, Buffer.from('a stranger'));
    expect((await send(root, destination(name))).map((d) => [d.label, d.before])).toEqual([
      ['system', 'same'],
      ['data', 'nothing'],
    ]);
    expect(same(skyDisks(name), homeDisks(id))).toBe(true);
    expect(lying()).toEqual([]);
  });

  it('is there once and whole when the mover was killed at any request, before or after it was done', async () => {
    const id = machine();
    atHome(id, [
      { disk: 'system', block: 3, fill: 1 },
      { disk: 'system', block: 47, fill: 2 },
      { disk: 'data', block: 0, fill: 3 },
    ]);
    const root = await take(platform, id);
    let deaths = 0;
    for (let requests = 1; ; requests++) {
      const outcomes = await Promise.all(
        [false, true].map(async (lost) => {
          // each in a region of its own, as only one goes into a region at a time
          const region = lost ? 'fjord-south' : 'fjord-north';
          const to = destination(`killed-${requests}-${lost}`, { region, network: lost ? 'beach' : 'shore', groups: ['inner', 'new'] });
          const taskId = `k${++tasks}`;
          const died = await send(root, to, deadAfter(requests, lost), taskId).then(
            () => false,
            (error: unknown) => (error as Error).message === 'killed',
          );
          if (died) await send(root, to, client, taskId);
          expect(same(skyDisks(to.name), homeDisks(id)), `${requests} ${lost}`).toBe(true);
          expect(sky.cloud.named(to.name)).toMatchObject({ running: true, note: '' });
          return died;
        }),
      );
      expect([lying(), sky.cloud.imports.names()], `after ${requests}`).toEqual([[], []]);
      if (outcomes.some(Boolean)) deaths++;
      else break;
    }
    expect(deaths).toBeGreaterThan(12);
    expect(sky.cloud.all().filter((i) => i.name.startsWith('killed-'))).toHaveLength(2 * (deaths + 1));
  }, 120_000);

  it('comes home over the one that stayed, whatever either wrote meanwhile, and only blocks that one of them wrote are moved', async () => {
    const at = new PlatformClient(platform);
    await fc.assert(
      fc.asyncProperty(writes, writes, writes, fc.boolean(), async (first, home, away, known) => {
        const id = machine();
        atHome(id, first);
        const before = await take(platform, id);
        const name = `home-${id}`;
        await send(before, destination(name, { start: false }));
        inSky(name, away);
        const root = await take(cloud, sky.cloud.named(name).id);
        atHome(id, home);
        const disks = hosts.platform.machine(id).disks.map((d) => hosts.platform.diskOf(id, d.id));
        const read = disks.map((d) => d.read);
        const zeros = keyedHash(store.keys.nameKey, zeroBlock);
        let made = true;
        await new MachineRestore({
          ...{ client: at, stored: await storedMachine(store, topEntry(root)), top: topEntry(root), trees: store.trees, taskId: 'r' },
          changeIds: known ? changeIdsOf(before) : {},
          base: known
            ? async (label) => ImageMap.of(await store.trees.find(topEntry(before), `disks/${label}.raw`), store.trees, zeros)
            : undefined,
          readChunk: (chunk) => store.reader.read(chunk),
          nameKey: store.keys.nameKey,
          files: undefined,
          destination: { to: 'over', machine: id, start: false },
          onMachine: (_, isNew) => (made = isNew),
          ...{
            onDisk: () => undefined,
            onRemoved: () => undefined,
            onBytes: () => undefined,
            phase: () => undefined,
            stopped: () => false,
          },
        }).run();
        expect(made).toBe(false);
        expect(same(homeDisks(id), skyDisks(name))).toBe(true);
        expect(hosts.platform.machine(id)).toMatchObject({ host: 'mole-1', processors: 2, memory: 2048, note: '' });
        const touched = new Set([...home, ...away].map((w) => `${w.disk} ${w.block}`)).size;
        // compared before it is written, and read again after
        if (known) expect(disks.reduce((sum, d, i) => sum + d.read - read[i]!, 0)).toBeLessThanOrEqual(2 * touched * block);
      }),
      { numRuns: rounds(10, 200) },
    );
    at.close();
  }, 120_000);
});
