import { createHash, randomBytes } from 'node:crypto';
import fs from 'node:fs';
import {
  changeIdsOf,
  closePools,
  machinePoint,
  MachineRestore,
  PlatformClient,
  SourceError,
  type MachineDestination,
  type RestoredDisk,
  type Warned,
  readStoredMachine,
} from '@lithodex/connectors';
import { DiskFolder, Store, topEntry } from '@lithodex/engine';
import type { PlatformRef } from '@lithodex/kinds';
import { platformFine, type MachineDescription, type PlatformService } from '@lithodex/standins';
import fc from 'fast-check';
import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { rounds } from '../../../../tests/support/by-command';
import { quietly, readAllPoints } from '../../../../tests/support/store-kit';
import { machineOf, startPlatform } from '../../../../tests/support/platform';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import { takePoint, type PointRequest } from './take-point';

const MiB = 1 << 20;
const block = 65_536;
let base: string;
let service: PlatformService;
let platform: PlatformRef;
let client: PlatformClient;
let store: Store;
let tasks = 0;

beforeAll(async () => {
  base = temporaryFolder('machines');
  const started = await startPlatform(`${base}/platform`);
  ({ service } = started);
  platform = { id: null, endpoint: started.endpoint, opener: started.body.opener!, way: 'network', family: 'hosts' };
  client = new PlatformClient(platform);
});
beforeEach(async () => {
  fs.mkdirSync(`${base}/store`);
  store = await Store.create(new DiskFolder(`${base}/store`), randomBytes(32), new Date(0));
});
afterEach(() => {
  service.platform.switches = platformFine;
  fs.rmSync(`${base}/store`, { recursive: true });
});
afterAll(async () => {
  client.close();
  await closePools();
  await service.stop();
  fs.rmSync(base, { recursive: true, force: true });
});

let made = 0;
function machine(more: Partial<MachineDescription> = {}) {
  const disks = [
    { label: 'system', size: 40 * MiB - 512, storage: 'fast' },
    { label: 'data', size: 8 * MiB, storage: 'fast' },
  ];
  return service.platform.create(machineOf(`berth-${++made}`, { note: 'berth planning', disks, ...more }));
}

async function take(
  id: string,
  previous: string | null,
  more: Partial<PointRequest> = {},
  alive: string[] = [],
  inside: { name: string; password: string } | null = null,
) {
  const warnings: Warned[] = [];
  const taskId = `t${++tasks}`;
  const taken = await takePoint(
    store,
    {
      taskId,
      seriesId: `s-${id}`,
      workload: { id: 'w1', name: 'berth', source: 'harbour', path: '' },
      kind: 'incremental',
      previous,
      moment: 1000,
      include: [],
      exclude: [],
      from: { kind: 'machine', platform, id, cluster: 'harbour', location: 'Harbour office', inside, snapshot: null },
      ...more,
    },
    {
      ...quietly,
      alive: async (list) => list.filter((t) => alive.includes(t)),
      now: () => 2000,
      warn: (w) => warnings.push(w),
    },
  );
  return { ...taken, taskId, warnings };
}

async function restore(id: string, taskId: string, destination: MachineDestination, files?: string[]) {
  const { root } = (await store.root(`s-${id}`, taskId))!;
  const top = topEntry(root);
  const settings = await store.trees.find(top, 'machine.json');
  const stored = readStoredMachine(await store.reader.read((settings.content as { names: Buffer }).names));
  const disks: RestoredDisk[] = [];
  let to = '';
  await new MachineRestore({
    client,
    stored,
    top,
    changeIds: changeIdsOf(root),
    trees: store.trees,
    readChunk: (name) => store.reader.read(name),
    nameKey: store.keys.nameKey,
    files: files && new Set(files),
    destination,
    taskId: 'r1',
    onDisk: (d) => disks.push(d),
    onRemoved: () => undefined,
    onMachine: (m) => (to = m.id),
    onBytes: () => undefined,
    phase: () => undefined,
    stopped: () => false,
  }).run();
  return { disks, machine: service.platform.machine(to) };
}

const sumsOf = (id: string) =>
  service.platform.machine(id).disks.map((d) =>
    createHash('sha256')
      .update(fs.readFileSync(service.platform.fileOf(id, d.id)))
      .digest('hex'),
  );
const diskOf = (id: string, at = 0) => service.platform.diskOf(id, service.platform.machine(id).disks[at]!.id);
const elsewhere = (name: string): MachineDestination => ({
  to: 'new',
  name,
  host: 'rock-1',
  folder: '/Restored',
  storages: {},
  storage: 'cellar',
  networks: ['rock'],
  start: false,
});

describe('a machine without a helper', () => {
  it('is brought to rest under an account inside, and taken all the same where that is not let in', async () => {
    const { id } = machine({ helper: false, running: true });
    service.platform.setInside(id, [{ name: 'backup', password: 'brass bell' }]);
    const level = async (inside: { name: string; password: string } | null) => {
      const { root, warnings } = await take(id, null, {}, [], inside);
      return [machinePoint(root)!.level, warnings.map((w) => [w.code, /\((.*)\)$/.exec(w.message)?.[1]])];
    };
    expect(await level(null)).toEqual(['crash', []]);
    expect(await level({ name: 'backup', password: 'brass bell' })).toEqual(['application', []]);
    const name = service.platform.machine(id).name;
    expect(await level({ name: 'backup', password: 'wrong' })).toEqual(['crash', [['NOT_QUIET', `${name} does not let backup in`]]]);
  });
});

describe('a machine', () => {
  it('comes back bit for bit at another cluster, from a full and from what changed after', async () => {
    const { id } = machine();
    diskOf(id).write(1000, randomBytes(3 * MiB));
    diskOf(id).write(30 * MiB, randomBytes(100));
    diskOf(id).write(40 * MiB - 600, randomBytes(88));
    diskOf(id, 1).write(0, Buffer.alloc(MiB, 7));
    const first = await take(id, null);
    const before = sumsOf(id);
    expect(first.root.kind).toBe('incremental');
    expect(first.root.content).toMatchObject({ kind: 'machine', facts: { level: 'application' }, changes: { before: 0, added: 67 } });
    expect(service.platform.machine(id).snapshots).toEqual([]);

    diskOf(id).write(2 * MiB, randomBytes(10));
    diskOf(id).write(35 * MiB, randomBytes(2 * block));
    const second = await take(id, first.taskId);
    expect(second.root.totals.read).toBe(3 * block);
    expect(second.root.content.changes).toMatchObject({ changed: 1, added: 2, removed: 0 });
    const after = sumsOf(id);

    const one = await restore(id, first.taskId, elsewhere('berth-first'));
    expect(sumsOf(one.machine.id)).toEqual(before);
    expect(one.machine).toMatchObject({ host: 'rock-1', networks: ['rock'], running: false, processors: 2, note: 'berth planning' });
    const two = await restore(id, second.taskId, elsewhere('berth-second'));
    expect(sumsOf(two.machine.id)).toEqual(after);
    expect(await readAllPoints(store)).toEqual([first.taskId, second.taskId].sort());
  });

  it('goes back to its place by writing only blocks that differ, also when the platform lost track', async () => {
    const { id } = machine();
    diskOf(id).write(0, randomBytes(4 * MiB));
    const point = await take(id, null);
    const before = sumsOf(id);
    const disk = diskOf(id);
    disk.write(MiB, randomBytes(10));
    disk.write(20 * MiB, randomBytes(block));
    let written = disk.written;
    const back = await restore(id, point.taskId, { to: 'original', start: true });
    expect(back.machine).toMatchObject({ id, running: true, note: 'berth planning' });
    expect(disk.written - written).toBe(2 * block);
    expect(sumsOf(id)).toEqual(before);
    expect(back.disks).toEqual([
      { file: 'disks/system.raw', action: 'replace', written: 2 * block },
      { file: 'disks/data.raw', action: 'same', written: 0 },
    ]);
    disk.write(3 * MiB, randomBytes(10));
    disk.forgetChanges();
    written = disk.written;
    await restore(id, point.taskId, { to: 'original', start: true });
    expect(disk.written - written).toBe(block);
    expect(sumsOf(id)).toEqual(before);
  });

  it('that is gone comes back where it was; one that is not what it was is left alone', async () => {
    const { id, name } = machine({ running: false });
    diskOf(id).write(0, randomBytes(MiB));
    const { taskId } = await take(id, null);
    const sums = sumsOf(id);
    service.platform.remove(id);
    const { machine: again } = await restore(id, taskId, { to: 'original', start: false });
    expect(again).toMatchObject({ name, host: 'mole-1' });
    expect(sumsOf(again.id)).toEqual(sums);
    await expect(restore(id, taskId, elsewhere(name))).rejects.toMatchObject({ code: 'NAME_TAKEN_THERE' } satisfies Partial<SourceError>);
  });

  it('is read whole when changes are not known, and told so; the point is the same', async () => {
    const { id } = machine();
    diskOf(id).write(0, randomBytes(2 * MiB));
    const first = await take(id, null);
    diskOf(id).write(MiB, randomBytes(5));
    diskOf(id).forgetChanges();
    const second = await take(id, first.taskId);
    expect(second.warnings).toEqual([{ code: 'CHANGES_UNKNOWN', path: 'disks/system.raw', missing: false, message: expect.any(String) }]);
    expect(second.root.totals.read).toBe(2 * MiB);
    expect(second.root.content.changes).toMatchObject({ changed: 1, added: 0 });
    const { machine: copy } = await restore(id, second.taskId, elsewhere('berth-unknown'));
    expect(sumsOf(copy.id)).toEqual(sumsOf(id));
  });

  it('that is read again as a full tells what the platform did not say had changed', async () => {
    const { id, disks } = machine();
    diskOf(id).write(0, randomBytes(2 * MiB));
    const first = await take(id, null);
    const file = service.platform.fileOf(id, disks[0]!.id);
    const fd = fs.openSync(file, 'r+');
    fs.writeSync(fd, 'behind its back', 5 * block);
    fs.closeSync(fd);
    const second = await take(id, first.taskId, { kind: 'full', base: null });
    expect(second.warnings).toEqual([
      { code: 'CHANGED_UNSEEN', path: 'disks/system.raw', missing: false, message: expect.stringContaining('(1)') },
    ]);
    const { machine: copy } = await restore(id, second.taskId, elsewhere('berth-unseen'));
    expect(sumsOf(copy.id)).toEqual(sumsOf(id));
  });

  it('that can not be brought to rest is taken as after a loss of power', async () => {
    const { id, name } = machine();
    service.platform.switches = { ...platformFine, quiesceFails: [name] };
    const point = await take(id, null);
    expect(point.warnings.map((w) => w.code)).toEqual(['NOT_QUIET']);
    expect(machinePoint(point.root)!.level).toBe('crash');
    service.platform.switches = { ...platformFine, snapshotFails: [name] };
    await expect(take(id, point.taskId)).rejects.toMatchObject({ code: 'SNAPSHOT_FAILED' });
  });

  it('loses the snapshots of runs that are over, and keeps those of others', async () => {
    const { id } = machine();
    for (const name of ['lithodex-dead', 'lithodex-alive', 'by hand']) service.platform.takeSnapshot(id, name, false);
    await take(id, null, {}, ['alive']);
    expect(service.platform.machine(id).snapshots.map((s) => s.name)).toEqual(['lithodex-alive', 'by hand']);
  });

  it('leaves out a disk by pattern and brings back one disk alone', async () => {
    const { id } = machine();
    diskOf(id).write(0, randomBytes(MiB));
    diskOf(id, 1).write(0, randomBytes(MiB));
    const without = await take(id, null, { exclude: ['disks/data.raw'] });
    const { machine: copy } = await restore(id, without.taskId, elsewhere('berth-part'));
    expect(sumsOf(copy.id)[0]).toBe(sumsOf(id)[0]);
    expect(diskOf(copy.id, 1).allocated()).toEqual([]);
    const whole = await take(id, without.taskId);
    const [system, data] = sumsOf(id);
    diskOf(id).write(0, randomBytes(10));
    diskOf(id, 1).write(0, randomBytes(10));
    await restore(id, whole.taskId, { to: 'original', start: false }, ['disks/data.raw']);
    expect(sumsOf(id)[1]).toBe(data);
    expect(sumsOf(id)[0]).not.toBe(system);
  });

  it('is the same after any writes between points, whichever point is brought back', async () => {
    const write = fc.record({ at: fc.nat(40 * MiB - 600), length: fc.integer({ min: 1, max: 3 * block }), zeros: fc.boolean() });
    await fc.assert(
      fc.asyncProperty(fc.array(fc.array(write, { maxLength: 4 }), { minLength: 1, maxLength: 4 }), async (nights) => {
        const { id } = machine();
        const points: { taskId: string; sums: string[] }[] = [];
        for (const writes of nights) {
          for (const { at, length, zeros } of writes) {
            const bytes = Math.min(length, 40 * MiB - 512 - at);
            diskOf(id).write(at, zeros ? Buffer.alloc(bytes) : randomBytes(bytes));
          }
          points.push({ taskId: (await take(id, points.at(-1)?.taskId ?? null)).taskId, sums: sumsOf(id) });
        }
        for (const { taskId, sums } of [...points].reverse()) {
          await restore(id, taskId, { to: 'original', start: false });
          expect(sumsOf(id)).toEqual(sums);
        }
        service.platform.remove(id);
      }),
      { numRuns: rounds(1, 5) },
    );
  });
});
