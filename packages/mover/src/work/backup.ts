import type { BackupWork, MachinePoint, PointTotals } from '@lithodex/contract';
import { countOf, formatBytes, pathFilter } from '@lithodex/core';
import { surveyTree, type CaptureWarning, type MachineWarning } from '@lithodex/connectors';
import { EngineError, type Root } from '@lithodex/engine';
import { CatalogLoader, type Changes } from './catalog-loader';
import { platformClient } from './platforms';
import { scriptFile } from './script';
import { takePoint, type MachineAt, type TakenPoint } from './take-point';
import { trialOfMachine } from './trial-machine';
import { noCounts, type TaskContext, type TaskResult } from './task-context';

const warningText: Record<(CaptureWarning | MachineWarning)['code'], string> = {
  UNREADABLE: 'could not be read, so it is missing from this point',
  VANISHED: 'vanished while the run was looking',
  CHANGED_WHILE_READ: 'changed while it was read; what was read is kept',
  ATTRIBUTES_UNREADABLE: 'its extended attributes could not be read',
  CHANGED_UNSEEN:
    'holds other bytes than the point before, though its size and times are the same: the disk of the source may be failing, or something writes past its file system',
  NOT_QUIET:
    'could not be brought to rest, so its disks were taken as after a loss of power; start or install the helper inside to raise that',
  CHANGES_UNKNOWN: 'the platform does not know what changed since the point before, so all of it was read',
  SNAPSHOT_STAYS: 'its snapshot could not be removed from the platform; the next run tries again',
};

/** Takes a point, loads what changed into the catalog and makes the point visible. */
export async function runBackup(ctx: TaskContext, work: BackupWork): Promise<TaskResult> {
  const store = await ctx.stores.of(work.target);
  const started = Date.now();
  let missing = 0;
  let notLocked = 0;
  ctx.phase(work.kind === 'synthetic' ? 'reading again' : 'reading');
  const expected = { expectedItems: work.expected.items, expectedBytes: work.expected.bytes };
  const taken = await takePoint(
    store,
    { ...work, taskId: ctx.task.id, machine: work.machine ? machineAt(ctx, work.machine) : undefined },
    {
      now: () => ctx.task.serverNow + (Date.now() - started),
      onWarning: (w) => {
        if (w.code === 'UNREADABLE') missing++;
        ctx.log({ level: 'warning', code: w.code, path: w.path, message: warningText[w.code] + (w.cause ? ` (${w.cause})` : '') });
      },
      onSnapshot: (level) => {
        const how = level === 'application' ? 'programs inside brought to rest' : 'as after a loss of power';
        ctx.log({ level: 'note', code: 'SNAPSHOT', path: '', message: `the machine was frozen, ${how}` });
      },
      onNotLocked: (why) => {
        notLocked++;
        ctx.log({ level: 'warning', code: 'NOT_LOCKED', path: '', message: `the point is stored but not locked: ${why}` });
      },
      onCapture: (p, packed) => {
        ctx.progress({ phase: 'reading', items: p.items, bytes: p.bytes, read: p.read, ...packed, ...expected });
      },
      onReadAgain: ({ bytes, chunks }) => {
        const rest = { fresh: 0, stored: 0, expectedItems: 0, expectedBytes: 0 };
        ctx.progress({ phase: 'reading again', items: 0, bytes, read: 0, ...rest });
        if (chunks === undefined) return;
        const message = `put together on the target: ${countOf(chunks, 'chunk')}, ${formatBytes(bytes)} read again there, every sum matches; nothing was read from the source`;
        ctx.log({ level: 'note', code: 'PUT_TOGETHER', path: '', message });
      },
      limits: ctx.limits,
      stopped: ctx.stopped,
      beforeCommit: () => {
        ctx.phase('committing');
      },
    },
  );
  const { root } = taken;
  // what an earlier attempt, or the point this one was put together from, could not read is known only as a number of warnings, so it counts as missing
  if (taken.adopted || root.kind === 'synthetic') missing = root.warnings;
  for (const path of root.leftOut.byItself)
    ctx.log({ level: 'note', code: 'LEFT_OUT', path, message: 'left out: a target keeps its data here' });
  if (taken.adopted)
    ctx.log({ level: 'note', code: 'ADOPTED', path: '', message: 'an earlier attempt had stored everything; its point is taken over' });
  if (work.fresh)
    ctx.log({ level: 'note', code: 'STORED_ANEW', path: '', message: 'a fresh full: nothing on the target was taken as stored' });
  ctx.phase('cataloguing');
  const changes = await new CatalogLoader(ctx, store).load(taken.previousTop, taken.top, root.totals.files);
  await ctx.api.insist(
    'commitPoint',
    { attempt: ctx.task.attempt, point: totalsOf(taken, work, changes, missing === 0) },
    ctx.task.id,
    ctx.stopped,
  );
  ctx.log({
    level: 'note',
    code: 'POINT',
    path: '',
    message: `point stored: ${countOf(root.totals.items, 'item')}, ${formatBytes(root.totals.read)} read, ${formatBytes(root.totals.stored)} written`,
  });
  const { totals } = root;
  return {
    counts: {
      ...noCounts,
      items: totals.items,
      files: totals.files,
      bytes: totals.bytes,
      read: totals.read,
      stored: totals.stored,
      warnings: root.warnings + notLocked,
      missing,
    },
    bytes: totals.read,
  };
}

function machineAt(ctx: TaskContext, { platform, ...machine }: NonNullable<BackupWork['machine']>): MachineAt {
  const alive = async (tasks: string[]) =>
    (await ctx.api.insist('aliveTasks', { attempt: ctx.task.attempt, tasks }, ctx.task.id, ctx.stopped)).alive;
  return { client: platformClient(platform), ...machine, alive };
}

/** What the catalog keeps of a machine. */
export function machinePoint({ machine }: Pick<Root, 'machine'>): MachinePoint | null {
  if (!machine) return null;
  const { networks, tags, disks, ...place } = machine.place;
  return { ...place, level: machine.level, networks: [...networks], tags: [...tags], disks: disks.map((d) => ({ ...d })) };
}

function totalsOf(taken: TakenPoint, work: BackupWork, changes: Changes, complete: boolean): PointTotals {
  const { totals, moment, kind, warnings, lockedUntil = null, base = null } = taken.root;
  const { blocks } = taken.root.machine ?? {};
  const judged = blocks ? { ...changes, ...blocks, turnedRandom: 0, renamed: 0, of: 'blocks' as const } : changes;
  return {
    ...totals,
    lockedUntil,
    moment,
    kind,
    previous: work.previous,
    base,
    warnings,
    complete,
    changes: judged,
    machine: machinePoint(taken.root),
  };
}

/** Looks at everything a backup would, moves nothing. */
export async function runTrial(ctx: TaskContext, work: BackupWork): Promise<TaskResult> {
  ctx.phase('looking');
  for (const name of [work.scripts?.before, work.scripts?.after]) if (name) scriptFile(ctx.scripts, name);
  const store = await ctx.stores.of(work.target);
  const room = await store.target.room();
  ctx.log({
    level: 'note',
    code: 'TARGET',
    path: '',
    message: `the target opens with its key${room.free === null ? '' : ` and has ${formatBytes(room.free)} free`}`,
  });
  if (work.machine) return trialOfMachine(ctx, work, work.machine, room.free);
  let missing = 0;
  const survey = surveyTree(
    work.workload.path,
    pathFilter(work.include, work.exclude),
    work.targetFolders,
    work.readAs,
    ctx.limits,
    (path, cause) => {
      missing++;
      ctx.log({ level: 'warning', code: 'UNREADABLE', path, message: `${warningText.UNREADABLE} (${cause})` });
    },
    ctx.stopped,
  );
  if (ctx.stopped()) throw new EngineError('STOPPED');
  ctx.log({
    level: room.free !== null && room.free < survey.bytes ? 'warning' : 'note',
    code: 'SIZE',
    path: '',
    message: `${countOf(survey.files, 'file')}, ${formatBytes(survey.bytes)} would be looked at; nothing was moved`,
  });
  return { counts: { ...noCounts, ...survey, warnings: missing, missing }, bytes: 0 };
}
