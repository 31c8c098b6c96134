import type { BackupWork, PointTotals } from '@lithodex/contract';
import { countOf, formatBytes } from '@lithodex/core';
import { connectorOf, factsOf, machinePoint } from '@lithodex/connectors';
import { EngineError } from '@lithodex/engine';
import { kinds } from '@lithodex/kinds';
import { CatalogLoader, type Changes } from './catalog-loader';
import { scriptFile } from './script';
import { takePoint, type TakenPoint } from './take-point';
import { noCounts, type TaskContext, type TaskResult } from './task-context';

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
    { ...work, taskId: ctx.task.id },
    {
      now: () => ctx.task.serverNow + (Date.now() - started),
      alive: async (tasks) => (await ctx.api.insist('aliveTasks', { attempt: ctx.task.attempt, tasks }, ctx.task.id, ctx.stopped)).alive,
      warn: ({ missing: isMissing, ...said }) => {
        if (isMissing) missing++;
        ctx.log({ level: 'warning', ...said });
      },
      note: (said) => {
        ctx.log({ level: 'note', ...said });
      },
      onNotLocked: (why) => {
        notLocked++;
        ctx.log({ level: 'warning', code: 'NOT_LOCKED', path: '', message: `the point is stored but not locked: ${why}` });
      },
      progress: (p, packed) => {
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

function totalsOf(taken: TakenPoint, work: BackupWork, changes: Changes, complete: boolean): PointTotals {
  const { totals, moment, kind, warnings, lockedUntil = null, base = null } = taken.root;
  const own = taken.root.content.changes;
  const judged = own ? { ...changes, ...own, turnedRandom: 0, renamed: 0, of: kinds[work.from.kind].changesIn } : changes;
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
    facts: factsOf(taken.root),
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
  const { include, exclude, from } = work;
  const { warnings, missing, ...found } = await connectorOf(from.kind).survey(
    {
      include,
      exclude,
      limits: ctx.limits,
      free: room.free,
      warn: ({ code, path, message }) => {
        ctx.log({ level: 'warning', code, path, message });
      },
      say: (level, said) => {
        ctx.log({ level, ...said });
      },
      stopped: ctx.stopped,
    },
    from,
  );
  if (ctx.stopped()) throw new EngineError('STOPPED');
  return { counts: { ...noCounts, ...found, warnings, missing }, bytes: 0 };
}
