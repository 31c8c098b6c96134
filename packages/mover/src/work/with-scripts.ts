import type { BackupWork } from '@lithodex/contract';
import { runScript, ScriptError } from './script';
import type { TaskContext, TaskResult } from './task-context';

/**
 * A backup between its scripts. One that fails before keeps the backup from being taken; the one after runs in any case and is told how it went, and when it fails the point stays, with a
 * remark.
 */
export async function withScripts(ctx: TaskContext, work: BackupWork, take: () => Promise<TaskResult>): Promise<TaskResult> {
  const { before = null, after = null, minutes = 0 } = work.scripts ?? {};
  const told = {
    LITHODEX_RUN: String(ctx.task.runId),
    LITHODEX_WORKLOAD: work.workload.name,
    LITHODEX_SOURCE: work.workload.source,
    LITHODEX_KIND: work.kind,
  };
  const runAfter = async (outcome: 'done' | 'failed'): Promise<boolean> => {
    if (!after) return true;
    ctx.phase('script after');
    try {
      await runScript(ctx, after, minutes, { ...told, LITHODEX_OUTCOME: outcome });
      return true;
    } catch (error) {
      if (!(error instanceof ScriptError)) throw error;
      ctx.log({ level: 'warning', code: error.code, path: '', message: error.message });
      return false;
    }
  };
  let result: TaskResult;
  try {
    if (before) {
      ctx.phase('script before');
      await runScript(ctx, before, minutes, told);
    }
    result = await take();
  } catch (error) {
    // a stopped task is over at once
    if (!ctx.stopped()) await runAfter('failed');
    throw error;
  }
  if (await runAfter('done')) return result;
  return { ...result, counts: { ...result.counts, warnings: result.counts.warnings + 1 } };
}
