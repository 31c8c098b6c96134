import type { ExpireWork } from '@lithodex/contract';
import { noCounts, type TaskContext, type TaskResult } from './task-context';

/** Removes the roots of points that retention let go. */
export async function runExpire(ctx: TaskContext, work: ExpireWork): Promise<TaskResult> {
  ctx.phase('removing');
  const store = await ctx.stores.of(work.target);
  for (const { seriesId, taskId } of work.points) await store.removeRoot(seriesId, taskId);
  return { counts: { ...noCounts, items: work.points.length }, bytes: 0 };
}
