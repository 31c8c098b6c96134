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
}

/** Brings the summary of a workload in line with its points. Belongs into every transaction that adds, expires or clears points. */
export async function summarizePoints(trx: Knex.Transaction, workloadId: number): Promise<void> {
  const living = () => trx('point').where({ workload_id: workloadId, state: 'visible' });
  const sums = await living().first<{ points: number; oldest: number | null; suspects: number | null }>(
    trx.raw('COUNT(*) AS points, MIN(moment) AS oldest, SUM(suspect) AS suspects'),
  );
  await trx('workload_points').where({ workload_id: workloadId }).delete();
  if (!Number(sums.points)) return;
  type Newest = { id: string; moment: number; bytes: number; items: number };
  const { id, ...newest } = await living().orderBy('suspect').orderBy('moment', 'desc').first<Newest>('id', 'moment', 'bytes', 'items');
  const { points, oldest, suspects } = sums;
  await trx('workload_points').insert({ workload_id: workloadId, points, oldest, suspects, point_id: id, ...newest });
}
