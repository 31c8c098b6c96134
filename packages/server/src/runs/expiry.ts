import type { Knex } from 'knex';
import { dropUnneeded } from '../catalog/load';
import { decideCopies, presentCopies, type SeriesKeep } from '../catalog/copies';
import { livingPoints, type SeriesRow } from '../catalog/points';
import { inTransaction } from '../db/open';
import type { Deps } from '../deps';
import { summarizePoints } from '../estate/point-summary';
import { queueRun, type NewTask } from './queue';
import { bodyOf } from '../policies/matching';

/** What decides over a series: the policy that made its newest scheduled point; a person where there was none. */
export async function keepOf(db: Knex, series: number): Promise<SeriesKeep> {
  const newest = await db('point')
    .where({ series_no: series, state: 'visible' })
    .whereNotNull('policy_id')
    .orderBy('ordinal', 'desc')
    .first<{ policy_id: number } | undefined>('policy_id');
  const policy = newest && (await db('policy').where({ id: newest.policy_id }).first<{ body: unknown } | undefined>());
  if (!policy) return { keep: { by: 'hand' }, targetId: null, copies: [], zone: 'UTC' };
  const { keep, targetId, copies, zone } = bodyOf(policy.body);
  return { keep, targetId, copies: copies ?? [], zone };
}

/** What a task of expiry keeps. */
export interface ExpirePlan {
  readonly targetId: string;
  readonly points: readonly string[];
}

/**
 * Lets the copies of a series go that retention no longer keeps, and queues the removal of their roots on their targets. A point whose last copy went is expired: its items leave
 * the catalog.
 */
export async function expireSeries(deps: Deps, seriesNo: number): Promise<number> {
  const now = deps.clock.now();
  const expired = await inTransaction(deps.db, async (trx) => {
    const series = await trx('series').where({ no: seriesNo }).forUpdate().first<SeriesRow | undefined>();
    if (!series) return [];
    const workload = await trx('workload').where({ id: series.workload_id }).first<{ frozen: 0 | 1; name: string }>();
    const points = await livingPoints(trx, seriesNo);
    const ids = points.map((p) => p.id);
    const copies = await presentCopies(trx, ids);
    const decisions = decideCopies(series, points, copies, await keepOf(trx, seriesNo), now, workload.frozen === 1);
    const tasks: NewTask[] = [];
    for (const [targetId, own] of decisions) {
      const going = [...own.values()].filter((d) => d.expires).map((d) => d.id);
      if (!going.length) continue;
      await trx('copy').whereIn('point_id', going).where({ target_id: targetId }).update({ state: 'gone', gone_at: now });
      const work: ExpirePlan = { targetId, points: going };
      tasks.push({ workloadId: series.workload_id, seriesNo, type: 'expire', work });
    }
    if (!tasks.length) return [];
    await queueRun(trx, now, { kind: 'expire', startedBy: 'schedule', name: `Expiry of ${workload.name}`, person: '', tasks });
    const left = await presentCopies(trx, ids);
    const gone = points.filter((p) => !left.has(p.id));
    for (const point of gone) {
      await trx('point').where({ id: point.id }).update({ state: 'expired', expired_at: now });
      await dropUnneeded(trx, seriesNo, point.ordinal);
    }
    if (gone.length) await summarizePoints(trx, series.workload_id);
    return points;
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
