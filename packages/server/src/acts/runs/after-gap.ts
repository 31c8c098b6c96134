import type { Knex } from 'knex';
import type { SeriesRow } from '../../records/catalog/points';
import { bodyOf } from '../../records/policies/matching';
import { bandOf } from '../estate/database-band';
import { backupTasks, planOf, queueRun, type RuleId } from './queue';

/** Takes a full where a log has begun anew behind a gap: without one, no second after it can be reached. */
export async function queueAfterGap(trx: Knex.Transaction, now: number, { policyId }: RuleId, series: SeriesRow): Promise<void> {
  if (series.method !== 'log') return;
  const { stretches } = await bandOf(trx, series.workload_id);
  const last = stretches.at(-1);
  if (last?.from !== null || !last.cause) return;
  const policy = await trx('policy').where({ id: policyId, ended: false }).first<{ body: unknown } | undefined>('body');
  const body = policy && bodyOf(policy.body);
  const rule = body?.rules.find((r) => r.kind === 'full');
  if (!body || !rule) return;
  const tasks = await backupTasks(trx, [series.workload_id], planOf(body, rule), 'backup');
  if (!tasks.length) return;
  await queueRun(trx, now, {
    kind: 'backup',
    pointKind: 'full',
    startedBy: 'schedule',
    policyId,
    ruleNo: rule.no,
    name: body.name,
    person: '',
    reason: 'the log has a gap',
    tasks,
  });
}
