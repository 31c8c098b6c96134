import type { Knex } from 'knex';
import type { z } from 'zod';
import type { PointsStanding } from '@lithodex/contract';
import { fromJson } from '../../base/db/json';
import type { RunningTask } from '../../records/movers/running-task';
import { keptPoints, type SeriesRow } from '../../records/catalog/points';
import { expireLost } from '../runs/expiry';
import type { CarePlan } from './care';

/** Takes out of the catalog what does not stand any more on a target that is followed; of one that was taken over meanwhile nothing leaves. Returns the workloads of points that left. */
export async function standOnly(
  trx: Knex.Transaction,
  now: number,
  task: RunningTask,
  { after, upTo, points }: z.infer<typeof PointsStanding>,
): Promise<number[]> {
  const { targetId } = fromJson<CarePlan>(task.work);
  const target = await trx('target').where({ id: targetId }).first<{ follows_every: number | null } | undefined>('follows_every');
  if (target?.follows_every == null) return [];
  const known = await trx('copy as c')
    .join('point as p', 'p.id', 'c.point_id')
    .where({ 'c.target_id': targetId, 'c.state': 'present' })
    .where('c.point_id', '>', after)
    .where((q) => void (upTo === null || q.where('c.point_id', '<=', upTo)))
    .select<{ id: string; series_no: number }[]>('p.id', 'p.series_no');
  const there = new Set(points);
  const gone = known.filter((p) => !there.has(p.id));
  return lose(trx, now, targetId, gone);
}

/** Copies that stand on a target no more; points without another leave the catalog. Returns the workloads of the series. */
export async function lose(
  trx: Knex.Transaction,
  now: number,
  targetId: string,
  gone: readonly { readonly id: string; readonly series_no: number }[],
): Promise<number[]> {
  const workloads: number[] = [];
  for (const no of new Set(gone.map((p) => p.series_no))) {
    const ids = gone.filter((p) => p.series_no === no).map((p) => p.id);
    const series = await trx('series').where({ no }).forUpdate().first<SeriesRow>();
    const own = (await keptPoints(trx, no)).filter((p) => ids.includes(p.id));
    for (let from = 0; from < ids.length; from += 1000)
      await trx('copy')
        .where({ target_id: targetId })
        .whereIn('point_id', ids.slice(from, from + 1000))
        .update({ state: 'gone', gone_at: now });
    await expireLost(trx, now, series, own);
    workloads.push(series.workload_id);
  }
  return workloads;
}
