import type { ExpireWork } from '@lithodex/contract';
import { EngineError } from '@lithodex/engine';
import { noCounts, type TaskContext, type TaskResult } from './task-context';

/** Removes the roots of points that retention let go. */
export async function runExpire(ctx: TaskContext, work: ExpireWork): Promise<TaskResult> {
  ctx.phase('removing');
  const store = await ctx.stores.of(work.target);
  const counts = { ...noCounts };
  for (const { seriesId, taskId } of work.points)
    try {
      await store.removeRoot(seriesId, taskId);
      counts.items++;
    } catch (error) {
      if (!(error instanceof EngineError && error.code === 'OBJECT_LOCKED')) throw error;
      counts.warnings++;
      ctx.log({ level: 'warning', code: error.code, path: '', message: error.message });
    }
  return { counts, bytes: 0 };
}
