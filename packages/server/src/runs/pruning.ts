import type { PruneWork } from '@lithodex/contract';
import type { Knex } from 'knex';
import { inTransaction } from '../db/open';
import type { Deps } from '../deps';
import { ApiError, found } from '../errors';
import { queueRun } from './queue';

/** Time between two prunes of a target that start by themselves. */
const pruneEveryMs = 3 * 86_400_000;

interface PrunedTarget {
  readonly id: string;
  readonly name: string;
  readonly folder: string;
}

async function isOpen(trx: Knex.Transaction, targetId: string): Promise<boolean> {
  const open = await trx('task')
    .where({ type: 'prune' })
    .whereIn('state', ['waiting', 'running'])
    .whereRaw("JSON_VALUE(work, '$.target.id') = ?", [targetId])
    .first<{ id: string } | undefined>('id');
  return open !== undefined;
}

/** Queues a prune of a target. Throws NOT_NOW while one is open. */
export async function queuePrune(
  trx: Knex.Transaction,
  now: number,
  targetId: string,
  by: { trial: boolean; person: string },
): Promise<number> {
  const target = found(await trx('target').where({ id: targetId }).forUpdate().first<PrunedTarget | undefined>());
  if (await isOpen(trx, targetId)) throw new ApiError('NOT_NOW', undefined, 'This target is being pruned already.');
  if (!by.trial) await trx('target').where({ id: targetId }).update({ prune_due: false, pruned_at: now });
  const work: PruneWork = { type: 'prune', target: { id: target.id, folder: target.folder }, trial: by.trial };
  return queueRun(trx, now, {
    kind: 'prune',
    startedBy: by.person ? 'hand' : 'schedule',
    name: `Prune of ${target.name}`,
    person: by.person,
    rules: by.trial ? 'trial, nothing is deleted' : '',
    tasks: [{ workloadId: null, seriesNo: null, type: 'prune', work }],
  });
}

/** A target may hold what no point needs any more. */
export async function pruneLater(trx: Knex.Transaction, seriesNo: number): Promise<void> {
  await trx('target')
    .whereIn('id', trx('series').where({ no: seriesNo }).select('target_id'))
    .update({ prune_due: true });
}

/** Prunes the targets where it is due. */
export async function startDuePrunes(deps: Deps): Promise<void> {
  const now = deps.clock.now();
  const due = await deps
    .db('target')
    .where({ prune_due: true })
    .where((q) => void q.whereNull('pruned_at').orWhere('pruned_at', '<', now - pruneEveryMs))
    .select<PrunedTarget[]>('id');
  for (const { id } of due) {
    const runId = await inTransaction(deps.db, async (trx) =>
      (await isOpen(trx, id)) ? undefined : queuePrune(trx, now, id, { trial: false, person: '' }),
    );
    if (runId === undefined) continue;
    deps.movers.workAppeared();
    await deps.events.emit('run', { runId });
  }
}
