import type { PruneWork } from '@lithodex/contract';
import { countOf, formatBytes } from '@lithodex/core';
import { prune, type PruneReport } from '@lithodex/engine';
import { noCounts, type TaskContext, type TaskResult } from './task-context';

/** Gives back the room of what no point on the target needs. */
export async function runPrune(ctx: TaskContext, work: PruneWork): Promise<TaskResult> {
  ctx.phase('marking');
  const store = await ctx.stores.of(work.target);
  const report = await prune(store, {
    trial: work.trial,
    stopped: ctx.stopped,
    onStep: ctx.phase,
    alive: async (tasks) => {
      const body = { attempt: ctx.task.attempt, tasks: [...tasks] };
      return new Set((await ctx.api.insist('aliveTasks', body, ctx.task.id, ctx.stopped)).alive);
    },
  });
  ctx.log({ level: 'note', code: 'PRUNED', path: '', message: sentence(report, work.trial) });
  return { counts: { ...noCounts, items: report.freedPacks, bytes: report.freedBytes }, bytes: 0 };
}

function sentence(r: PruneReport, trial: boolean): string {
  const room = (packs: number, bytes: number) => `${countOf(packs, 'pack')}, ${formatBytes(bytes)}`;
  const looked = `${countOf(r.points, 'point')} need ${countOf(r.packs, 'pack')}, ${formatBytes(r.bytes)} in all`;
  const rewritten = r.rewrittenPacks ? `; ${countOf(r.rewrittenPacks, 'half-empty pack')} ${trial ? 'would be' : 'were'} written anew` : '';
  if (trial) return `${looked}; ${room(r.waitingPacks, r.waitingBytes)} would be deleted${rewritten}`;
  const waiting = r.waitingPacks ? `; ${room(r.waitingPacks, r.waitingBytes)} wait until the tasks at work have ended` : '';
  return `${looked}; ${room(r.freedPacks, r.freedBytes)} deleted${waiting}${rewritten}`;
}
