import type { Scripts } from '@lithodex/contract';
import { runScript, ScriptError, type ScriptHost } from './script';

/** What scripts are told of the task. */
export interface ScriptTask {
  readonly runId: number;
  readonly workload: string;
  readonly source: string;
  readonly kind: string;
}

/**
 * The work between its scripts. One that fails before keeps it from being done; the one after runs in any case and is told how it went, and when it fails the work stands all the same:
 * `afterFailed` is told.
 */
export async function withScripts<T>(
  host: ScriptHost,
  scripts: Scripts | null,
  task: ScriptTask,
  take: () => Promise<T>,
): Promise<{ readonly result: T; readonly afterFailed: boolean }> {
  const { before = null, after = null, minutes = 0 } = scripts ?? {};
  const told = {
    LITHODEX_RUN: String(task.runId),
    LITHODEX_WORKLOAD: task.workload,
    LITHODEX_SOURCE: task.source,
    LITHODEX_KIND: task.kind,
  };
  const runAfter = async (outcome: 'done' | 'failed'): Promise<boolean> => {
    if (!after) return true;
    host.phase('script after');
    try {
      await runScript(host, after, minutes, { ...told, LITHODEX_OUTCOME: outcome });
      return true;
    } catch (error) {
      if (!(error instanceof ScriptError)) throw error;
      host.log({ level: 'warning', code: error.code, path: '', message: error.message });
      return false;
    }
  };
  let result: T;
  try {
    if (before) {
      host.phase('script before');
      await runScript(host, before, minutes, told);
    }
    result = await take();
  } catch (error) {
    // a stopped task is over at once
    if (!host.stopped()) await runAfter('failed');
    throw error;
  }
  return { result, afterFailed: !(await runAfter('done')) };
}
