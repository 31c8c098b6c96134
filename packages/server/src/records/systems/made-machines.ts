import type { Knex } from 'knex';

/** A machine that was made from a point of a workload. */
export interface MadeMachine {
  readonly sourceId: number;
  readonly outerId: string;
  readonly workloadId: number;
}

/** Notes a machine that was made; false where that was known. */
export async function noteMade(trx: Knex, now: number, { sourceId, outerId, workloadId }: MadeMachine): Promise<boolean> {
  const key = { source_id: sourceId, outer_id: outerId };
  if (await trx('made_machine').where(key).first<object | undefined>('outer_id')) return false;
  await trx('made_machine')
    .insert({ ...key, workload_id: workloadId, made_at: now })
    .onConflict()
    .ignore();
  return true;
}

/** A machine that was made for a trial and is to be removed at a time (ms), by the task that made it. */
export interface TrialMachine extends MadeMachine {
  readonly taskId: string;
  readonly removeAt: number;
}

/** Notes when a machine that was made is to be removed. */
export async function noteTrial(trx: Knex, { sourceId, outerId, taskId, removeAt }: TrialMachine): Promise<void> {
  await trx('made_machine').where({ source_id: sourceId, outer_id: outerId }).update({ task_id: taskId, remove_at: removeAt });
}

/** Machines that were to be removed by then, those that wait longest first. */
export async function dueTrials(db: Knex, by: number): Promise<TrialMachine[]> {
  const rows = await db('made_machine')
    .where('remove_at', '<=', by)
    .orderBy('remove_at')
    .select<{ source_id: number; outer_id: string; workload_id: number; task_id: string; remove_at: number }[]>();
  return rows.map((r) => ({
    sourceId: r.source_id,
    outerId: r.outer_id,
    workloadId: r.workload_id,
    taskId: r.task_id,
    removeAt: r.remove_at,
  }));
}

/** It is removed, or nobody is to remove it any more. */
export async function endTrial(trx: Knex, { sourceId, outerId }: MadeMachine): Promise<void> {
  await trx('made_machine').where({ source_id: sourceId, outer_id: outerId }).update({ remove_at: null });
}

/** The workloads whose points machines of a platform were made from, by what it calls them. */
export async function madeFrom(trx: Knex, sourceId: number, outerIds: readonly string[]): Promise<Map<string, number>> {
  const rows = await trx('made_machine')
    .where({ source_id: sourceId })
    .whereIn('outer_id', [...outerIds])
    .select<{ outer_id: string; workload_id: number }[]>('outer_id', 'workload_id');
  return new Map(rows.map((r) => [r.outer_id, r.workload_id]));
}
