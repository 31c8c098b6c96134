import { typesThat, type VerifyWork } from '@lithodex/contract';
import type { Knex } from 'knex';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../deps';
import { ApiError, found } from '../../base/errors';
import { queueRun } from '../runs/queue';
import { mustBeOurs } from '../../records/targets/owned';
import { shownPlace, type TargetRow } from '../../records/targets/target-rows';

const dayMs = 86_400_000;
/** Time between two prunes of a target that start by themselves. */
const pruneEveryMs = 3 * dayMs;
/** Everything on a target is read again in this many days, a part each day. */
const verifyRound = 7;
/** A little less than a day, so that the hour of the daily part does not wander. */
const verifyEveryMs = dayMs - 3_600_000;

/** What a task of care keeps; the place of its target is looked up when it is claimed, so that no key of it lies in the queue. */
export type CarePlan =
  | { readonly type: 'prune'; readonly targetId: string; readonly trial: boolean }
  | { readonly type: 'verify'; readonly targetId: string; readonly part: VerifyWork['part'] }
  | { readonly type: 'adopt'; readonly targetId: string };

/** Whether a target is being pruned or verified: one at a time, since each would make the other wait or miss what it looks for. */
export async function isBusy(trx: Knex.Transaction, targetId: string): Promise<boolean> {
  const open = await trx('task')
    .whereIn(
      'type',
      typesThat((t) => t.aboutTarget),
    )
    .whereIn('state', ['waiting', 'running'])
    .whereRaw("JSON_VALUE(work, '$.targetId') = ?", [targetId])
    .first<{ id: string } | undefined>('id');
  return open !== undefined;
}

async function freeTarget(trx: Knex.Transaction, targetId: string): Promise<{ id: string; name: string }> {
  const target = found(
    await trx('target').where({ id: targetId }).forUpdate().first<{ id: string; name: string } | undefined>('id', 'name'),
  );
  if (await isBusy(trx, targetId))
    throw new ApiError('NOT_NOW', undefined, 'This target is being pruned, verified or taken over. Wait until that has ended.');
  return target;
}

/** A target that its owner, this installation, may care for. */
async function ownTarget(trx: Knex.Transaction, targetId: string): Promise<{ id: string; name: string }> {
  await mustBeOurs(trx, targetId);
  return freeTarget(trx, targetId);
}

function queueCare(
  trx: Knex.Transaction,
  now: number,
  work: CarePlan,
  run: { name: string; rules: string; person: string },
): Promise<number> {
  return queueRun(trx, now, {
    kind: work.type,
    startedBy: run.person ? 'hand' : 'schedule',
    ...run,
    tasks: [{ workloadId: null, seriesNo: null, type: work.type, work }],
  });
}

/** Queues a prune of a target. Throws NOT_NOW while one is open. */
export async function queuePrune(
  trx: Knex.Transaction,
  now: number,
  targetId: string,
  by: { trial: boolean; person: string },
): Promise<number> {
  const { id, name } = await ownTarget(trx, targetId);
  if (!by.trial) await trx('target').where({ id }).update({ prune_due: false, pruned_at: now });
  const rules = by.trial ? 'trial, nothing is deleted' : '';
  return queueCare(trx, now, { type: 'prune', targetId: id, trial: by.trial }, { name: `Prune of ${name}`, rules, person: by.person });
}

/** Queues the verification of a target: all of it, or one part of the round. Throws NOT_NOW while one is open. */
export async function queueVerify(
  trx: Knex.Transaction,
  now: number,
  targetId: string,
  by: { part: number | null; person: string },
): Promise<number> {
  const { id, name } = await ownTarget(trx, targetId);
  await trx('target').where({ id }).update({ verified_at: now });
  const part = by.part === null ? null : { number: by.part, of: verifyRound };
  const rules = part ? `part ${part.number + 1} of ${part.of}` : 'everything on the target';
  return queueCare(trx, now, { type: 'verify', targetId: id, part }, { name: `Verification of ${name}`, rules, person: by.person });
}

/** Queues the taking of a target's points into the catalog. Throws NOT_NOW while it is being cared for. */
export async function queueAdopt(trx: Knex.Transaction, now: number, targetId: string, person: string): Promise<number> {
  const { id, name } = await freeTarget(trx, targetId);
  await trx('target')
    .where({ id })
    .whereNotNull('follows_every')
    .update({ follow_due: trx.raw('? + follows_every * 60000', [now]) });
  return queueCare(
    trx,
    now,
    { type: 'adopt', targetId: id },
    { name: `Catalog from ${name}`, rules: 'points the catalog does not know', person },
  );
}

/** A target may hold what no point needs any more. Cartridges are pruned by hand: that asks for those on the shelf. */
export async function pruneLater(trx: Knex.Transaction, targetId: string): Promise<void> {
  const target = await trx('target').where({ id: targetId }).first<TargetRow>();
  if (shownPlace(target).kind !== 'cartridges') await trx('target').where({ id: targetId }).update({ prune_due: true });
}

/** Prunes and verifies the targets where it is due; those of other installations are read where that is due, and cared for by their owners. */
export async function startDueCare(deps: Deps): Promise<void> {
  const now = deps.clock.now();
  const olderThan = (column: string, age: number) => (q: Knex.QueryBuilder) => void q.whereNull(column).orWhere(column, '<', now - age);
  const start = async (id: string, queue: (trx: Knex.Transaction) => Promise<number>) => {
    const runId = await inTransaction(deps.db, async (trx) => ((await isBusy(trx, id)) ? undefined : queue(trx)));
    if (runId === undefined) return;
    deps.movers.workAppeared();
    await deps.events.emit('run', { runId });
  };
  const prunes = await deps
    .db('target')
    .where({ prune_due: true, follows_every: null })
    .where(olderThan('pruned_at', pruneEveryMs))
    .select<{ id: string }[]>('id');
  for (const { id } of prunes) await start(id, (trx) => queuePrune(trx, now, id, { trial: false, person: '' }));
  const verifies = await deps
    .db('target')
    .where({ follows_every: null })
    .where(olderThan('verified_at', verifyEveryMs))
    .whereIn('id', deps.db('copy').where({ state: 'present' }).select('target_id'))
    .select<{ id: string }[]>('id');
  const followed = await deps
    .db('target')
    .whereNotNull('follows_every')
    .where((q) => void q.whereNull('follow_due').orWhere('follow_due', '<=', now))
    .select<{ id: string }[]>('id');
  for (const { id } of followed) await start(id, (trx) => queueAdopt(trx, now, id, ''));
  const part = Math.floor(now / dayMs) % verifyRound;
  for (const { id } of verifies) await start(id, (trx) => queueVerify(trx, now, id, { part, person: '' }));
}
