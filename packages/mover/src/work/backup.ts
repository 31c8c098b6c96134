import type { BackupWork, PointTotals } from '@lithodex/contract';
import { countOf, formatBytes } from '@lithodex/core';
import { captureThrough, connectorOf, factsOf, machinePoint, surveyThrough, type Surveyed, type SurveyContext } from '@lithodex/connectors';
import { EngineError, topEntry, type TreeEntry } from '@lithodex/engine';
import { kinds, type KindName } from '@lithodex/kinds';
import { followLog, type StoredPoint } from './follow-log';
import { CatalogLoader, type Changes } from './catalog-loader';
import { scriptFile } from './script';
import { takePoint, type TakenPoint } from './take-point';
import { noCounts, type TaskContext, type TaskResult } from './task-context';
import { throughReader } from './through-reader';
import { withScripts, type ScriptTask } from './with-scripts';

/** Takes a point between the scripts of the policy. Those of a source that another mover reads run there. */
export async function runBackup(ctx: TaskContext, work: BackupWork): Promise<TaskResult> {
  const scripts = work.from.kind === 'afar' ? null : work.scripts;
  const { result, afterFailed } = await withScripts(ctx, scripts, scriptTask(ctx.task.runId, work), async () =>
    work.follow ? followLog(ctx, work, storePoint) : (await storePoint(ctx, work)).result,
  );
  return afterFailed ? { ...result, counts: { ...result.counts, warnings: result.counts.warnings + 1 } } : result;
}

const scriptTask = (runId: number, { workload, kind }: BackupWork): ScriptTask => ({
  runId,
  workload: workload.name,
  source: workload.source,
  kind,
});

/** Takes a point, loads what changed into the catalog and makes the point visible. Gives what comes next, where a log is followed. */
async function storePoint(ctx: TaskContext, work: BackupWork): Promise<StoredPoint> {
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
      afar: (mover, afar) => throughReader(ctx, mover, (stream) => captureThrough(stream, store, afar)),
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
  const loader = new CatalogLoader(ctx, store);
  const changes = await loader.load(taken.previous && topEntry(taken.previous), taken.top, {
    files: root.totals.files,
    moment: root.moment,
  });
  const namesInside = await loader.loadInside(taken.previous, root, work.namesInside);
  const point = totalsOf(taken, work, changes, missing === 0, namesInside);
  const told = { attempt: ctx.task.attempt, pointId: work.pointId, point };
  const { next } = await ctx.api.insist('commitPoint', told, ctx.task.id, ctx.stopped);
  ctx.log({
    level: 'note',
    code: 'POINT',
    path: '',
    message: `point stored: ${countOf(root.totals.items, 'item')}, ${formatBytes(root.totals.read)} read, ${formatBytes(root.totals.stored)} written`,
  });
  const notBeside = work.newestBeside && !(await besideStore(ctx, work, taken.top)) ? 1 : 0;
  const { totals } = root;
  const result: TaskResult = {
    counts: {
      ...noCounts,
      items: totals.items,
      files: totals.files,
      bytes: totals.bytes,
      read: totals.read,
      stored: totals.stored,
      warnings: root.warnings + notLocked + notBeside,
      missing,
    },
    bytes: totals.read,
  };
  return { result, root, next };
}

/** Writes the text of a point beside its store. What keeps that from being done does not make the point worse: it is said. False where it was not done. */
async function besideStore(ctx: TaskContext, work: BackupWork, top: TreeEntry): Promise<boolean> {
  const { target, workload } = work;
  const connector = await connectorOf(kindOf(work));
  if (!connector.newest || target.place.kind !== 'folder') return true;
  ctx.phase('writing the newest as files');
  try {
    const store = await ctx.stores.of(target);
    const { folder, files, bytes } = await connector.newest({ store, top }, target.place.folder, workload, ctx.stopped);
    const message = `kept as ${countOf(files, 'file')} in ${folder}, ${formatBytes(bytes)} of them written anew`;
    ctx.log({ level: 'note', code: 'BESIDE_STORE', path: '', message });
    return true;
  } catch (error) {
    const message = `the newest dump is not beside the store as files: ${error instanceof Error ? error.message : String(error)}`;
    ctx.log({ level: 'warning', code: 'NOT_BESIDE_STORE', path: '', message });
    return false;
  }
}

/** The kind of workload that is read, here or elsewhere. */
const kindOf = ({ from }: BackupWork): KindName => (from.kind === 'afar' ? from.of : from.kind);

function totalsOf(taken: TakenPoint, work: BackupWork, changes: Changes, complete: boolean, namesInside: number): PointTotals {
  const { totals, moment, kind, warnings, lockedUntil = null, base = null } = taken.root;
  const own = taken.root.content.changes;
  const judged = own ? { ...changes, ...own, turnedRandom: 0, renamed: 0, of: kinds[kindOf(work)].changesIn } : changes;
  return {
    ...totals,
    lockedUntil,
    moment,
    kind,
    previous: work.previous,
    base,
    warnings,
    complete,
    namesInside,
    changes: judged,
    machine: machinePoint(taken.root),
    facts: factsOf(taken.root),
  };
}

/** Looks at everything a backup would, moves nothing. */
export async function runTrial(ctx: TaskContext, work: BackupWork): Promise<TaskResult> {
  ctx.phase('looking');
  if (work.from.kind !== 'afar') for (const name of [work.scripts?.before, work.scripts?.after]) if (name) scriptFile(ctx.scripts, name);
  const store = await ctx.stores.of(work.target);
  const room = await store.target.room();
  ctx.log({
    level: 'note',
    code: 'TARGET',
    path: '',
    message: `the target opens with its key${room.free === null ? '' : ` and has ${formatBytes(room.free)} free`}`,
  });
  const { include, exclude, from } = work;
  const survey: SurveyContext = {
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
  };
  const { warnings, missing, ...found } = await surveyed(ctx, from, survey);
  if (ctx.stopped()) throw new EngineError('STOPPED');
  return { counts: { ...noCounts, ...found, warnings, missing }, bytes: 0 };
}

async function surveyed(ctx: TaskContext, from: BackupWork['from'], survey: SurveyContext): Promise<Surveyed> {
  if (from.kind !== 'afar') return (await connectorOf(from.kind)).survey(survey, from);
  const now = () => ctx.task.serverNow;
  return throughReader(ctx, from.mover, (stream) => surveyThrough(stream, { ...survey, now, taskId: ctx.task.id }));
}
