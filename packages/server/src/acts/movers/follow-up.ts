import type { RunState } from '@lithodex/contract';
import type { Knex } from 'knex';
import type { SeriesRow } from '../../records/catalog/points';
import { fromJson } from '../../base/db/json';
import { ApiError } from '../../base/errors';
import { queueAfterGap } from '../runs/after-gap';
import { queueSynthetic } from '../runs/put-together';
import { queueCopies, type CopyPlan } from '../runs/copying';
import { forgetOfLog, type ExpirePlan } from '../runs/expiry';
import { pruneLater, type CarePlan } from '../targets/care';
import { recordPromises } from '../policies/promises';
import type { RunningTask } from '../../records/movers/running-task';
import { bodyOf, ruleOf } from '../../records/policies/matching';

/** A copy task says that a point stands on its target now. Throws NOT_FOUND for a point of another series. */
export async function settleCopy(
  trx: Knex.Transaction,
  now: number,
  task: RunningTask,
  copied: { readonly pointId: string; readonly stored: number; readonly lockedUntil: number | null },
): Promise<void> {
  const { targetId } = fromJson<CopyPlan>(task.work);
  type Row = { policy_id: number | null; rule_no: number };
  const point = await trx('point').where({ id: copied.pointId, series_no: task.series_no }).first<Row | undefined>('policy_id', 'rule_no');
  if (!point) throw new ApiError('NOT_FOUND');
  const policy =
    point.policy_id === null ? undefined : await trx('policy').where({ id: point.policy_id }).first<{ body: unknown } | undefined>();
  const rule = policy && ruleOf(bodyOf(policy.body), point.rule_no).copies.find((c) => c.targetId === targetId);
  const row = {
    state: 'present',
    made_at: now,
    stored: copied.stored,
    keep_rule: JSON.stringify(rule?.keep ?? { by: 'hand' }),
    gone_at: null,
    locked_until: copied.lockedUntil,
  };
  await trx('copy')
    .insert({ point_id: copied.pointId, target_id: targetId, ...row })
    .onConflict()
    .merge(row);
  await trx.raw(
    `UPDATE copy c JOIN copy o ON o.point_id = c.point_id AND o.state = 'present' JOIN target t ON t.id = o.target_id AND t.retired_to = c.target_id
     SET c.promised_until = GREATEST(COALESCE(c.promised_until, 0), COALESCE(o.promised_until, 0)) WHERE c.point_id = ? AND c.target_id = ?`,
    [copied.pointId, targetId],
  );
  await recordPromises(trx, now, task.series_no!);
}

/** Queues what follows the end of a task: copies of a new sound point, a full put together when one is due, a full behind a gap of a log, pruning of a target that may hold what no point needs; and notes that one that is followed was read whole. */
export async function followUp(trx: Knex.Transaction, now: number, task: RunningTask, state: RunState): Promise<void> {
  const ended = !['failed', 'stopped', 'cutOff'].includes(state);
  switch (task.type) {
    case 'backup': {
      const run = await trx('run').where({ id: task.run_id }).first<{ policy_id: number | null; rule_no: number }>('policy_id', 'rule_no');
      const series = await trx('series').where({ no: task.series_no }).first<SeriesRow>();
      if (!ended) await pruneLater(trx, series.target_id);
      else if (run.policy_id !== null && state !== 'held') {
        const by = { policyId: run.policy_id, ruleNo: run.rule_no };
        await queueCopies(trx, now, by, series);
        await queueSynthetic(trx, now, by, series);
        await queueAfterGap(trx, now, by, series);
      }
      return;
    }
    case 'expire':
      if (task.series_no !== null) await forgetOfLog(trx, now, await trx('series').where({ no: task.series_no }).first<SeriesRow>());
      return pruneLater(trx, fromJson<ExpirePlan>(task.work).targetId);
    case 'adopt':
      if (ended)
        await trx('target')
          .where({ id: fromJson<CarePlan>(task.work).targetId })
          .whereNotNull('follows_every')
          .update({ followed_at: now });
      return;
    case 'copy':
      return ended ? undefined : pruneLater(trx, fromJson<CopyPlan>(task.work).targetId);
    case 'verify':
      await writeSettingsAnew(trx, fromJson<CarePlan>(task.work).targetId);
      return state !== 'remarks' ? undefined : pruneLater(trx, fromJson<CarePlan>(task.work).targetId);
  }
}

/** What was damaged there beyond mending was taken away. */
async function writeSettingsAnew(trx: Knex.Transaction, targetId: string): Promise<void> {
  await trx('target').where({ id: targetId }).update({ settings_sum: null });
}
