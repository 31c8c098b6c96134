import type { RunState } from '@lithodex/contract';
import type { Knex } from 'knex';
import { fromJson, fromJsonOrNull } from '../../base/db/json';
import { ApiError } from '../../base/errors';
import { queueRun, type NewRun, type NewTask } from './queue';
import type { RunRecord } from '../../records/runs/run-rows';

/** Queues again what ended in one of these states in a run. Throws NOT_NOW when there is nothing, or it is at work already. */
export async function retry(
  trx: Knex.Transaction,
  now: number,
  run: RunRecord & { readonly kind: 'backup' | 'copy' },
  states: readonly RunState[],
  how: Pick<NewRun, 'person'> & Partial<Pick<NewRun, 'window' | 'retried' | 'priority'>>,
): Promise<number> {
  type T = { workload_id: number; series_no: number; work: unknown };
  const failed = await trx('task')
    .where({ run_id: run.id, type: run.kind })
    .whereIn('state', [...states])
    .select<T[]>('workload_id', 'series_no', 'work');
  if (!failed.length) throw new ApiError('NOT_NOW', undefined, 'Everything in this run ended well or still runs.');
  const open = await trx('task')
    .whereIn(
      'series_no',
      failed.map((t) => t.series_no),
    )
    .where({ type: run.kind })
    .whereIn('state', ['waiting', 'running'])
    .first<{ id: string } | undefined>();
  if (open)
    throw new ApiError('NOT_NOW', undefined, run.kind === 'copy' ? 'It is being copied right now.' : 'It is being protected right now.');
  return queueRun(trx, now, {
    kind: run.kind,
    ...(run.kind === 'backup' && { pointKind: run.point_kind ?? ('incremental' as const) }),
    startedBy: 'retry',
    policyId: run.policy_id,
    ruleNo: run.rule_no,
    name: run.name,
    keepOwn: fromJsonOrNull(run.keep_own),
    ...how,
    tasks: failed.map((t): NewTask => ({ workloadId: t.workload_id, seriesNo: t.series_no, type: run.kind, work: fromJson(t.work) })),
  });
}
