import type { AdoptWork, FoundPoint } from '@lithodex/contract';
import { factsOf, machinePoint } from '@lithodex/connectors';
import { countOf, formatBytes } from '@lithodex/core';
import { EngineError, isLoss, noteFollower, ownerOf, topEntry, type Root } from '@lithodex/engine';
import { CatalogLoader } from './catalog-loader';
import { noCounts, type TaskContext, type TaskResult } from './task-context';

/** Takes the points that stand on a target into the catalog, series by series, oldest first, each whole before the next. */
export async function runAdopt(ctx: TaskContext, work: AdoptWork): Promise<TaskResult> {
  ctx.phase('looking');
  const store = await ctx.stores.of(work.target);
  const roots = new Map<string, Root[]>();
  const counts = { ...noCounts };
  const warn = (code: string, message: string) => {
    counts.warnings++;
    ctx.log({ level: 'warning', code, path: '', message });
  };
  const standing: string[] = [];
  for (const point of await store.listPoints()) {
    if (ctx.stopped()) throw new EngineError('STOPPED');
    try {
      const root = await store.listedRoot(point);
      if (root) standing.push(point.taskId);
      if (root) roots.set(root.seriesId, [...(roots.get(root.seriesId) ?? []), root]);
    } catch (error) {
      if (!isLoss(error)) throw error;
      standing.push(point.taskId);
      warn('ROOT_DAMAGED', `the root of point ${point.taskId} can not be read; a verification may heal it from another target`);
    }
  }
  if (work.target.follows) {
    // where the disk is not mounted nothing stands either, and that is no word of its owner
    if (!(await ownerOf(store.target, store.keys))) throw new EngineError('TARGET_MISSING', store.target.description);
    await noteFollower(store, work.target.owner, Date.now());
    await tellStanding(ctx, standing);
  }
  ctx.phase('cataloguing');
  const loader = new CatalogLoader(ctx, store);
  const all = [...roots.values()].flatMap((own) => own.sort(inOrder));
  const byTask = new Map(all.map((r) => [r.taskId, r]));
  const expectedBytes = all.reduce((sum, r) => sum + r.totals.bytes, 0);
  let taken = 0;
  for (const root of all) {
    if (ctx.stopped()) throw new EngineError('STOPPED');
    const point = foundPoint(root);
    const answer = await ctx.api.insist('adoptPoint', { attempt: ctx.task.attempt, point }, ctx.task.id, ctx.stopped);
    const previous = answer.previous && (byTask.get(answer.previous) ?? null);
    if (answer.say === 'passed' || (answer.previous && !previous)) {
      warn(
        'PASSED',
        `the point of ${root.workload.name} of ${new Date(root.moment).toISOString()} does not fit into what the catalog knows of its series`,
      );
      continue;
    }
    if (answer.say === 'load') {
      const changes = await loader.load(previous ? topEntry(previous) : undefined, topEntry(root), {
        files: root.totals.files,
        moment: root.moment,
      });
      await ctx.api.insist('pointAdopted', { attempt: ctx.task.attempt, point, changes }, ctx.task.id, ctx.stopped);
      taken++;
    }
    counts.items += root.totals.items;
    counts.files += root.totals.files;
    counts.bytes += root.totals.bytes;
    ctx.progress({
      phase: 'cataloguing',
      items: counts.items,
      bytes: counts.bytes,
      read: 0,
      fresh: 0,
      stored: 0,
      expectedItems: 0,
      expectedBytes,
    });
  }
  const message = `${countOf(taken, 'point')} of ${countOf(roots.size, 'series', 'series')} taken into the catalog, ${formatBytes(counts.bytes)} at full size stand there; ${countOf(all.length - taken, 'other')} known`;
  ctx.log({ level: 'note', code: 'ADOPTED', path: '', message });
  return { counts, bytes: 0 };
}

const idsAtOnce = 5000;

/** Tells which points stand there, so that those the owner let go leave the catalog before anybody picks them. */
async function tellStanding(ctx: TaskContext, ids: string[]): Promise<void> {
  ids.sort();
  for (let from = 0, after = ''; ; from += idsAtOnce) {
    const points = ids.slice(from, from + idsAtOnce);
    const upTo = from + idsAtOnce < ids.length ? points.at(-1)! : null;
    await ctx.api.insist('pointsStanding', { attempt: ctx.task.attempt, after, upTo, points }, ctx.task.id, ctx.stopped);
    if (upTo === null) return;
    after = upTo;
  }
}

/** Oldest first; a full that was put together stands for the instant of the point it was made of and comes after it. */
function inOrder(a: Root, b: Root): number {
  const made = (root: Root) => Number(root.kind === 'synthetic');
  return a.moment - b.moment || made(a) - made(b) || a.committed - b.committed;
}

function foundPoint(root: Root): FoundPoint {
  const { taskId, seriesId, moment, kind, totals, warnings, lockedUntil = null } = root;
  const { name, source, path } = root.workload;
  return {
    ...totals,
    taskId,
    seriesId,
    moment,
    kind,
    warnings,
    lockedUntil,
    previous: root.previous?.taskId ?? null,
    base: root.base ?? null,
    workload: { name, source, path },
    machine: machinePoint(root),
    facts: factsOf(root),
  };
}
