import { judgePoint } from '@lithodex/core';
import type { PointTotals } from '@lithodex/contract';
import type { Knex } from 'knex';
import { insertPoint } from '../../records/catalog/insert-point';
import type { SeriesRow } from '../../records/catalog/points';
import { fromJsonOrNull } from '../../base/db/json';
import { earlierPoints } from '../../records/catalog/earlier-points';
import { summarizePoints } from '../../records/catalog/point-summary';
import { pointIdOf, type RunningTask } from '../../records/movers/running-task';
import { bodyOf, ruleOf } from '../../records/policies/matching';
import { recordPromises } from '../policies/promises';

const defaultLimit = 0.4;
/** Makes the loaded point visible: the one small transaction. A point already there (an attempt that was taken over) stays as it is. */
export async function makeVisible(trx: Knex.Transaction, now: number, task: RunningTask, point: PointTotals): Promise<void> {
  const id = pointIdOf(task);
  if (await trx('point').where({ id }).first<{ id: string } | undefined>()) return;
  const series = await trx('series').where({ no: task.series_no }).forUpdate().first<SeriesRow>();
  const run = await trx('run')
    .where({ id: task.run_id })
    .first<{ policy_id: number | null; rule_no: number; keep_own: unknown; started_by: string }>();
  const policy =
    run.policy_id === null ? undefined : await trx('policy').where({ id: run.policy_id }).first<{ body: unknown } | undefined>();
  const body = policy && bodyOf(policy.body);
  const rule = body && ruleOf(body, run.rule_no, series.target_id);
  const limit = body ? body.changeLimit / 100 : defaultLimit;
  const workload = await trx('workload').where({ id: series.workload_id }).first<{ hold_from: number }>('hold_from');
  // a point of a log has nothing that could have changed, and comes every few seconds
  const earlier = point.changes.before === 0 ? [] : await earlierPoints(trx, series.no, task.ordinal!);
  const unusual = judgePoint(point.changes, point.moment, earlier, {
    limit,
    holdFrom: workload.hold_from,
  });
  await insertPoint(trx, series, point, {
    id,
    run_id: task.run_id,
    policy_id: run.policy_id,
    ruleNo: run.rule_no,
    ordinal: task.ordinal!,
    builds_on: point.base ?? point.previous,
    changes: point.changes,
    counts: point.changes,
    complete: point.complete,
    judged: unusual,
    keepOwn: fromJsonOrNull(run.keep_own),
    extra: run.started_by === 'hand' && rule !== undefined && rule.schedule.every !== 'hand',
  });
  await trx('copy').insert({
    point_id: id,
    target_id: series.target_id,
    state: 'present',
    made_at: point.moment,
    stored: point.stored,
    locked_until: point.lockedUntil,
  });
  await recordPromises(trx, now, series.no);
  await summarizePoints(trx, series.workload_id);
  if (unusual.suspect) await trx('workload').where({ id: series.workload_id }).update({ frozen: true });
}
