import type { Keep } from '@lithodex/core';
import type { PolicyBody } from '@lithodex/contract';
import type { Knex } from 'knex';
import { dropUnneeded } from '../catalog/load';
import { decide, livingPoints, type SeriesRow } from '../catalog/points';
import { fromJson } from '../db/json';
import { inTransaction } from '../db/open';
import type { Deps } from '../deps';
import { queueRun } from './queue';

/** The keep that decides over a series: that of the policy that made its newest scheduled point; by hand where there was none. */
export async function keepOf(db: Knex, series: number): Promise<{ keep: Keep; policyId: number | null }> {
  const newest = await db('point')
    .where({ series_no: series, state: 'visible' })
    .whereNotNull('policy_id')
    .orderBy('ordinal', 'desc')
    .first<{ policy_id: number } | undefined>('policy_id');
  const policy = newest && (await db('policy').where({ id: newest.policy_id }).first<{ body: unknown } | undefined>());
  return policy ? { keep: fromJson<PolicyBody>(policy.body).keep, policyId: newest.policy_id } : { keep: { by: 'hand' }, policyId: null };
}

/** Lets the points of a series go that retention no longer keeps, and queues the removal of their roots on the target. */
export async function expireSeries(deps: Deps, seriesNo: number): Promise<number> {
  const now = deps.clock.now();
  const expired = await inTransaction(deps.db, async (trx) => {
    const series = await trx('series').where({ no: seriesNo }).forUpdate().first<SeriesRow | undefined>();
    if (!series) return [];
    const workload = await trx('workload').where({ id: series.workload_id }).first<{ frozen: 0 | 1; name: string }>();
    const points = await livingPoints(trx, seriesNo);
    const decisions = decide(points, (await keepOf(trx, seriesNo)).keep, now, workload.frozen === 1);
    const going = points.filter((p) => decisions.get(p.id)?.expires);
    for (const point of going) {
      await trx('point').where({ id: point.id }).update({ state: 'expired', expired_at: now });
      await dropUnneeded(trx, seriesNo, point.ordinal);
    }
    if (going.length)
      await queueRun(trx, now, {
        kind: 'expire',
        startedBy: 'schedule',
        name: `Expiry of ${workload.name}`,
        person: '',
        tasks: [{ workloadId: series.workload_id, seriesNo, type: 'expire', work: { points: going.map((p) => p.id) } }],
      });
    return going;
  });
  if (expired.length) {
    await deps.events.emit('point', { workloadId: expired[0]!.workload_id });
    deps.movers.workAppeared();
  }
  return expired.length;
}

/** Expiry over everything. */
export async function expireAll(deps: Deps): Promise<void> {
  for (const { no } of await deps.db('series').select<{ no: number }[]>('no')) await expireSeries(deps, no);
}
