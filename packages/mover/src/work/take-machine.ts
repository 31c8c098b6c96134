import { pathFilter } from '@lithodex/core';
import { MachineCapture, zeroBlock, type StoredMachine } from '@lithodex/connectors';
import { keyedHash, topEntry, type MachineRoot, type Root, type Store } from '@lithodex/engine';
import { PointWriting } from './point-writing';
import type { MachineAt, PointContent, PointHooks, PointRequest } from './take-point';

/** New blocks that are made room for, of what changed and of all. */
const changedBlocks = 131_072;
const everyBlock = 1_000_000;

/** Reads a machine from its platform: what changed since `base`, or everything, compared with `reread`. */
export function takeMachine(
  store: Store,
  request: PointRequest,
  machine: MachineAt,
  base: Root | undefined,
  reread: Root | undefined,
  hooks: PointHooks,
): Promise<PointContent> {
  const known = base ?? reread;
  const writing = new PointWriting(store, base ? changedBlocks : everyBlock, request.fresh ?? false);
  let warnings = 0;
  return writing.during(async () => {
    const tell = () => {
      const { items, bytes, read } = work.progress;
      hooks.onCapture({ items, files: items, bytes, read }, writing.packed);
    };
    const work = new MachineCapture({
      client: machine.client,
      machineId: machine.id,
      cluster: machine.cluster,
      location: machine.location,
      alive: machine.alive,
      inside: machine.inside ?? undefined,
      taskId: request.taskId,
      previous: known && { top: topEntry(known), changeIds: known.machine?.changeIds ?? {} },
      rereads: !base,
      filter: pathFilter(request.include, request.exclude),
      trees: store.trees,
      pool: writing.pool,
      put: writing.put,
      zeros: keyedHash(store.keys.nameKey, zeroBlock),
      drain: async () => {
        await writing.drain();
        tell();
      },
      onWarning: (warning) => {
        warnings++;
        hooks.onWarning(warning);
      },
      onSnapshot: (level) => hooks.onSnapshot?.(level),
      now: hooks.now,
      stopped: hooks.stopped,
    });
    const { top, changeIds, blocks, held, leftOut, machine: stored } = await work.run();
    const counts = await writing.finish();
    tell();
    return {
      top,
      // disks are sparse: what they hold is what a full of them would be
      totals: {
        items: top.folder?.items ?? 0,
        files: stored.disks.length - leftOut.length + 1,
        bytes: held,
        read: work.progress.read,
        ...counts,
      },
      owners: {},
      groups: {},
      leftOut: { include: request.include, exclude: request.exclude, byItself: [] },
      warnings,
      machine: { place: placeOf(stored), changeIds, level: stored.level, blocks },
    };
  });
}

function placeOf({ name, cluster, location, host, folder, networks, tags, disks }: StoredMachine): MachineRoot['place'] {
  return {
    name,
    cluster,
    location,
    host,
    folder,
    networks,
    tags,
    disks: disks.map(({ id, label, size, storage, file }) => ({ id, label, size, storage, file })),
  };
}
