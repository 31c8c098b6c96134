import type { Knex } from 'knex';

/** What the estate says of the points of each workload, kept beside them: counting a million points takes longer than anybody waits. */
export interface PointSummary {
  readonly workload_id: number;
  readonly points: number;
  /** Moments. */
  readonly oldest: number;
  readonly suspects: number;
  /** The newest point that is not suspect, or the newest where all are. */
  readonly point_id: string;
  readonly moment: number;
  readonly bytes: number;
  readonly items: number;
  /** Of all points at full size, and what was written for them. */
  readonly all_bytes: number;
  readonly all_stored: number;
}

/** Brings the summary of a workload in line with its points. Belongs into every transaction that adds, expires or clears points. */
export async function summarizePoints(trx: Knex.Transaction, workloadId: number): Promise<void> {
  const living = () => trx('point').where({ workload_id: workloadId, state: 'visible' });
  const sums = await living().first<{
    points: number;
    oldest: number | null;
    suspects: number | null;
    all_bytes: number | null;
    all_stored: number | null;
  }>(trx.raw('COUNT(*) AS points, MIN(moment) AS oldest, SUM(suspect) AS suspects, SUM(bytes) AS all_bytes, SUM(stored) AS all_stored'));
  await trx('workload_points').where({ workload_id: workloadId }).delete();
  await trx('policy_points').where({ workload_id: workloadId }).delete();
  if (!Number(sums.points)) return;
  type Newest = { id: string; moment: number; bytes: number; items: number };
  const newestOf = (which: Knex.QueryBuilder) =>
    which.orderBy('suspect').orderBy('moment', 'desc').first<Newest | undefined>('id', 'moment', 'bytes', 'items');
  const newest = (await newestOf(living()))!;
  // a log tells how new the newest second is, and the newest point that is none what there is
  const whole = (await newestOf(living().whereNot({ kind: 'log' }))) ?? newest;
  await trx('workload_points').insert({
    workload_id: workloadId,
    ...sums,
    point_id: whole.id,
    moment: newest.moment,
    bytes: whole.bytes,
    items: whole.items,
  });
  const byPolicy = living().whereNotNull('policy_id').groupBy('policy_id').select('workload_id', 'policy_id', trx.raw('COUNT(*)'));
  await trx(trx.raw('policy_points (workload_id, policy_id, points)')).insert(byPolicy);
}
