import type { ExpireWork } from '@lithodex/contract';
import { noCounts, type TaskContext, type TaskResult } from './task-context';

/** Removes the roots of points that retention let go. */
export async function runExpire(ctx: TaskContext, work: ExpireWork): Promise<TaskResult> {
  ctx.phase('removing');
  for (const point of work.points) {
    const store = await ctx.stores.of(point.target);
    await store.removeRoot(point.seriesId, point.taskId);
  }
  return { counts: { ...noCounts, items: work.points.length }, bytes: 0 };
}
