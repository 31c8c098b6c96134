import { Calendar } from '@lithodex/core';
import type { Knex } from 'knex';
import { livingPoints, type SeriesRow } from '../../records/catalog/points';
import { planOf, queueRun, type RuleId } from './queue';
import { bodyOf, ruleOf } from '../../records/policies/matching';

const units = { week: 'weeks', month: 'months' } as const;
const monday = 1;
const longestPeriod = 32 * 86_400_000;

/**
 * Queues a full that is put together on the target after a new point of a series, where the rule that made it wants one each week or month (of its own calendar) and the one the new point belongs to has
 * none yet.
 */
export async function queueSynthetic(trx: Knex.Transaction, now: number, { policyId, ruleNo }: RuleId, series: SeriesRow): Promise<void> {
  const policy = await trx('policy').where({ id: policyId, ended: false }).first<{ body: unknown } | undefined>('body');
  if (!policy) return;
  const body = bodyOf(policy.body);
  const rule = ruleOf(body, ruleNo, series.target_id);
  const { synthetic } = rule;
  if (!synthetic || rule.targetId !== series.target_id) return;
  const newest = (await livingPoints(trx, series.no)).filter((p) => p.suspect === 0).at(-1);
  if (!newest) return;
  const calendar = new Calendar(body.zone, monday);
  const period = (at: number) => calendar.period(units[synthetic], at);
  // one that has expired meanwhile was one too
  const fulls = await trx('point')
    .where({ series_no: series.no, suspect: false })
    .whereIn('kind', ['full', 'synthetic'])
    .where('moment', '>', newest.moment - longestPeriod)
    .select<{ moment: number }[]>('moment');
  if (fulls.some((p) => period(p.moment) === period(newest.moment)) || (await isOpen(trx, series.no))) return;
  await queueRun(trx, now, {
    kind: 'backup',
    pointKind: 'synthetic',
    startedBy: 'schedule',
    policyId,
    ruleNo: rule.no,
    name: body.name,
    person: '',
    tasks: [{ workloadId: series.workload_id, seriesNo: series.no, type: 'backup', work: { ...planOf(body, rule), kind: 'synthetic' } }],
  });
}

async function isOpen(trx: Knex.Transaction, seriesNo: number): Promise<boolean> {
  const open = await trx('task')
    .where({ series_no: seriesNo, type: 'backup' })
    .whereIn('state', ['waiting', 'running'])
    .first<{ id: string } | undefined>('id');
  return open !== undefined;
}
