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

/** The workloads whose points machines of a platform were made from, by what it calls them. */
export async function madeFrom(trx: Knex, sourceId: number, outerIds: readonly string[]): Promise<Map<string, number>> {
  const rows = await trx('made_machine')
    .where({ source_id: sourceId })
    .whereIn('outer_id', [...outerIds])
    .select<{ outer_id: string; workload_id: number }[]>('outer_id', 'workload_id');
  return new Map(rows.map((r) => [r.outer_id, r.workload_id]));
}
