import { pathFilter } from '@lithodex/core';
import { topEntry } from '@lithodex/engine';
import type { MachineFrom } from '@lithodex/kinds';
import type { CaptureContext, PointContent } from '../connector';
import { MachineCapture } from './capture-machine';
import { machineSource, platformClient } from './kept-clients';
import type { PlatformDisk } from './platform-types';
import { openStraight, type StraightDisk } from './straight-disk';
import { snapshotSource } from './snapshot-source';
import { changeIdsOf, machineContent } from './machine-content';
import { inWords } from './warning-words';

/** New blocks that are made room for, of what changed and of all. */
const changedBlocks = 131_072;
const everyBlock = 1_000_000;

/** A disk where it lies; what keeps a mover from that is said, and its data goes over the network. */
async function straightOrSaid(ctx: CaptureContext, from: MachineFrom, disk: PlatformDisk): Promise<StraightDisk | undefined> {
  const opened = await openStraight(platformClient(from.platform), from.id, disk, { limits: ctx.limits, writes: false });
  const where = typeof opened === 'string' ? `over the network: ${opened}` : `straight from ${disk.storage}`;
  ctx.note({ code: 'WAY', path: '', message: `${disk.label} is read ${where}` });
  return typeof opened === 'string' ? undefined : opened;
}

/** Reads a machine from its platform: what changed since `base`, or everything, compared with `reread`. */
export function takeMachine(ctx: CaptureContext, from: MachineFrom): Promise<PointContent> {
  const { store, base, include, exclude } = ctx;
  const known = base ?? ctx.reread;
  const writing = store.begin(base ? changedBlocks : everyBlock, ctx.fresh);
  let warnings = 0;
  return writing.during(async () => {
    const tell = () => {
      const { items, bytes, read } = work.progress;
      ctx.progress({ items, files: items, bytes, read }, writing.packed);
    };
    const work = new MachineCapture({
      client: from.snapshot ? snapshotSource(platformClient(from.platform), from.snapshot) : machineSource(from.platform),
      straight: from.platform.way === 'straight' && !from.snapshot ? (disk) => straightOrSaid(ctx, from, disk) : undefined,
      machineId: from.id,
      cluster: from.cluster,
      location: from.location,
      alive: ctx.alive,
      inside: from.inside ?? undefined,
      taskId: ctx.taskId,
      previous: known && { top: topEntry(known), changeIds: changeIdsOf(known) },
      rereads: !base,
      filter: pathFilter(include, exclude),
      trees: store.trees,
      pool: writing.pool,
      put: writing.put,
      zeros: store.zeros,
      drain: async () => {
        await writing.drain();
        tell();
      },
      onWarning: (warning) => {
        warnings++;
        ctx.warn(inWords(warning));
      },
      onSnapshot: (level) => {
        if (from.snapshot) {
          ctx.note({
            code: 'SNAPSHOT',
            path: '',
            message: `read from the snapshot that ${from.snapshot.storage} keeps, as after a loss of power`,
          });
          return;
        }
        const how = level === 'application' ? 'programs inside brought to rest' : 'as after a loss of power';
        ctx.note({ code: 'SNAPSHOT', path: '', message: `the machine was frozen, ${how}` });
      },
      now: ctx.now,
      stopped: ctx.stopped,
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
      leftOut: { include, exclude, byItself: [] },
      warnings,
      content: machineContent(stored, changeIds, blocks),
    };
  });
}
