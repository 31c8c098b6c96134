import { countOf, formatBytes } from '@lithodex/core';
import { EngineError, keyedHash, topEntry, type TreeEntry } from '@lithodex/engine';
import type { MachineDestination, MachineTo } from '@lithodex/kinds';
import type { OpenPoint, RestoreContext, RestoreOutcome, RestorePick } from '../connector';
import { entryAt } from './capture-machine';
import { bringToCloud } from './cloud/bring-to-cloud';
import { fileOfDisk } from './cloud/cloud-restore';
import { ImageMap, zeroBlock } from './image-map';
import { platformClient } from './kept-clients';
import type { PlatformDisk } from './platform-types';
import { openStraight } from './straight-disk';
import { changeIdsOf } from './machine-content';
import { readStoredMachine, settingsItem, type StoredMachine } from './machine-item';
import { putInside } from './put-inside';
import { MachineRestore, type MachineRestoreOptions, type RestoredDisk } from './restore-machine';
import type { PointStore } from '../point-store';

/** The settings of the machine that a point holds. */
export async function storedMachine(store: PointStore, top: TreeEntry): Promise<StoredMachine> {
  const item = await store.trees.find(top, settingsItem);
  const parts: Buffer[] = [];
  for await (const { names } of store.trees.contentParts(item.content))
    for (let at = 0; at < names.length; at += 32) parts.push(await store.reader.read(names.subarray(at, at + 32)));
  return readStoredMachine(Buffer.concat(parts));
}

/** How another machine was when a point was taken of it, so that what differs is known without reading its disks. */
async function sinceBase(
  ctx: RestoreContext,
  { kept, store }: OpenPoint,
  { base }: Extract<MachineDestination, { to: 'over' }>,
): Promise<Pick<MachineRestoreOptions, 'changeIds' | 'base'>> {
  const root = base && (await kept?.root(base.seriesId, base.taskId))?.root;
  if (!root) {
    ctx.note({
      code: 'READ_WHOLE',
      path: '',
      message: 'no point of the machine is known here: all that either of the two holds is compared',
    });
    return { changeIds: {} };
  }
  const zeros = keyedHash(store.keys.nameKey, zeroBlock);
  return {
    changeIds: changeIdsOf(root),
    async base(label) {
      const file = fileOfDisk(root, label);
      const entry = file === undefined ? undefined : await entryAt(store.trees, topEntry(root), file);
      return entry && ImageMap.of(entry, store.trees, zeros);
    },
  };
}

const diskWords: Record<RestoredDisk['action'], string> = {
  write: 'written',
  replace: 'written where it differed',
  same: 'was the same already',
};

/** Brings a machine back to a platform: all of it, or the disks that are picked. A trial looks whether the platform would take it and writes nothing. */
export async function bringBackMachine(
  ctx: RestoreContext,
  picks: readonly RestorePick[],
  { kind, platform, destination }: MachineTo,
): Promise<RestoreOutcome> {
  if (destination.to === 'inside') return putInside(ctx, picks, { kind, platform, destination });
  ctx.phase('preparing');
  const [first] = picks;
  if (!first) throw new EngineError('OBJECT_MISSING', 'no machine is picked');
  const point = await first.open();
  const { store, root, top } = point;
  const stored = await storedMachine(store, top);
  if (destination.to === 'cloud') return bringToCloud(ctx, point, stored, platform, destination);
  const client = platformClient(platform);
  const files = picks.every((p) => p.path !== '') ? new Set(picks.map((p) => p.path)) : undefined;
  if (ctx.trial) {
    const { rights } = await client.session();
    const message = `the platform lets us in with ${countOf(rights.length, 'right')}; ${stored.name} was not touched`;
    ctx.note({ code: 'TRIAL', path: '', message });
    const items = files?.size ?? stored.disks.filter((d) => d.file !== '').length;
    return { items, summary: `${countOf(items, 'disk')} looked at, nothing written` };
  }
  let items = 0;
  const newOnes: string[] = [];
  const straight = async (machineId: string, disk: PlatformDisk) => {
    const opened = await openStraight(client, machineId, disk, { limits: ctx.limits, writes: true });
    const where = typeof opened === 'string' ? `over the network: ${opened}` : `straight to ${disk.storage}`;
    ctx.note({ code: 'WAY', path: '', message: `${disk.label} is written ${where}` });
    return typeof opened === 'string' ? undefined : opened;
  };
  await new MachineRestore({
    client,
    straight: platform.way === 'straight' ? straight : undefined,
    stored,
    top,
    ...(destination.to === 'over' ? await sinceBase(ctx, point, destination) : { changeIds: changeIdsOf(root) }),
    trees: store.trees,
    readChunk: (name) => store.reader.read(name),
    nameKey: store.keys.nameKey,
    files,
    destination,
    taskId: ctx.taskId,
    onRemoved: (machine) => {
      ctx.note({
        code: 'MACHINE_REMOVED',
        path: '',
        message: `${machine.name} on ${machine.host} was removed with its disks`,
      });
    },
    onMachine: (machine, made) => {
      const message = made ? `${machine.name} was made on ${machine.host}` : `${machine.name} on ${machine.host} is written over`;
      if (made) newOnes.push(machine.id);
      ctx.note({ code: made ? 'MACHINE_MADE' : 'MACHINE_HELD', path: '', message });
    },
    onDisk: (disk) => {
      items++;
      ctx.done({ path: disk.file, action: disk.action, kind: 'file', bytes: disk.written, remark: '' });
      ctx.note({ code: 'DISK', path: disk.file, message: `${diskWords[disk.action]}: ${formatBytes(disk.written)} written` });
    },
    onBytes: ctx.moved,
    phase: ctx.phase,
    stopped: ctx.stopped,
  }).run();
  return { items, summary: `${countOf(items, 'disk')} done, what was written was read again and compared`, made: newOnes };
}
