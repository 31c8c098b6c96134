import { typesThat, type NextPoint } from '@lithodex/contract';
import type { Knex } from 'knex';
import { v7 as newId } from 'uuid';
import { fromJson } from '../../base/db/json';
import type { Deps } from '../deps';
import { ordinalStep } from '../../records/catalog/ordinals';
import type { SeriesRow } from '../../records/catalog/points';
import { moverTerms } from '../../records/movers/mover-terms';
import { pointIdOf, type RunningTask } from '../../records/movers/running-task';
import { bodyOf } from '../../records/policies/matching';
import { queueAfterGap } from '../runs/after-gap';
import { queueCopies } from '../runs/copying';
import { letGo } from '../runs/expiry';
import { planOf, type BackupPlan } from '../runs/queue';
import { backupWork } from './work-of';

/** So long one run follows a log; then the next one does, so that what came of it is seen. */
const longestMs = 3_600_000;
/** So often its newest point is copied, where the rule wants copies. */
const copiedMs = 600_000;

/** So long what waits for the series is made way for: it may be that nobody takes it. */
export const patienceMs = 60_000;

const changing = typesThat((t) => t.changesSeries);

interface RunOf {
  readonly policy_id: number | null;
  readonly rule_no: number;
  readonly window_ends: number | null;
}

/** What a task that follows a log takes after the point that was just made visible; null where it is to end. Points it has made needless leave the catalog. */
export async function followOn(deps: Deps, trx: Knex.Transaction, task: RunningTask): Promise<NextPoint | null> {
  const now = deps.clock.now();
  const series = await trx('series').where({ no: task.series_no }).forUpdate().first<SeriesRow>();
  const run = await trx('run').where({ id: task.run_id }).first<RunOf>('policy_id', 'rule_no', 'window_ends');
  await letGo(trx, now, series);
  if (run.policy_id !== null) {
    const by = { policyId: run.policy_id, ruleNo: run.rule_no };
    await queueAfterGap(trx, now, by, series);
    if (await copyIsDue(trx, now, task)) await queueCopies(trx, now, by, series);
  }
  if (await isToEnd(trx, now, task, run)) return null;
  const ordinal = series.last_ordinal + ordinalStep;
  const point_id = newId();
  await trx('series').where({ no: series.no }).update({ last_ordinal: ordinal });
  await trx('task').where({ id: task.id }).update({ ordinal, point_id });
  return nextOf(deps, trx, { ...task, ordinal, point_id }, now);
}

/** What such a task was told to take; null where it was told to end. */
export async function pointToTake(deps: Deps, trx: Knex.Transaction, task: RunningTask): Promise<NextPoint | null> {
  const taken = await trx('point')
    .where({ id: pointIdOf(task) })
    .first<{ id: string } | undefined>('id');
  return taken ? null : nextOf(deps, trx, task, deps.clock.now());
}

async function nextOf(deps: Deps, trx: Knex.Transaction, task: RunningTask, now: number): Promise<NextPoint> {
  const { pointId, previous, base, moment, logStart, expected } = await backupWork(trx, deps.secrets, task, now, task.mover);
  return { pointId, previous, base, moment, logStart, expected };
}

/** Its time or its window is over, it is not wanted any more as it is, its mover is to rest, or something else waits for the series. */
async function isToEnd(trx: Knex.Transaction, now: number, task: RunningTask, run: RunOf): Promise<boolean> {
  if (now - task.started_at >= longestMs || (run.window_ends !== null && now >= run.window_ends)) return true;
  if ((await moverTerms(trx, task.mover)).drained) return true;
  const policy = await trx('policy').where({ id: run.policy_id, ended: false }).first<{ body: unknown } | undefined>('body');
  const body = policy && bodyOf(policy.body);
  const rule = body?.rules.find((r) => r.no === run.rule_no);
  if (!body || !rule || JSON.stringify(planOf(body, rule)) !== JSON.stringify(fromJson(task.work))) return true;
  const wanted = await trx('assignment')
    .where({ policy_id: run.policy_id, workload_id: task.workload_id })
    .first<object | undefined>('workload_id');
  if (!wanted) return true;
  const { targetId } = fromJson<BackupPlan>(task.work);
  const waiting = await trx('task')
    .where({ state: 'waiting' })
    .where('queued_at', '>', now - patienceMs)
    .where(
      (q) =>
        void q
          .where((own) => void own.where({ series_no: task.series_no }).whereIn('type', changing))
          .orWhere((adopts) => void adopts.where({ type: 'adopt' }).whereRaw("JSON_VALUE(work, '$.targetId') = ?", [targetId])),
    )
    .first<object | undefined>('id');
  return waiting !== undefined;
}

async function copyIsDue(trx: Knex.Transaction, now: number, task: RunningTask): Promise<boolean> {
  const newest = await trx('task')
    .where({ series_no: task.series_no, type: 'copy' })
    .max({ at: 'queued_at' })
    .first<{ at: number | null }>();
  return now - Math.max(newest.at ?? 0, task.started_at) >= copiedMs;
}
