import { appendAudit } from '../../base/audit/trail';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../deps';
import { found } from '../../base/errors';
import { takeBackPromise } from '../policies/promises';

/** Lets a held point go: retention decides over it again. `by`: who did it, for the trail. */
export async function releaseHold(deps: Deps, pointId: string, by: string): Promise<void> {
  const { db, clock } = deps;
  const point = found(await db('point').where({ id: pointId }).first<{ workload_id: number } | undefined>('workload_id'));
  await inTransaction(db, async (trx) => {
    await trx('point').where({ id: pointId }).update({ held: false, held_why: '', keep_own: null });
    await takeBackPromise(trx, clock.now(), pointId);
    await appendAudit(trx, clock.now(), { actor: by, action: 'point.release', object: `point ${pointId}` });
  });
  await deps.events.emit('point', { workloadId: point.workload_id });
}
