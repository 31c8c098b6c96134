import type { Knex } from 'knex';
import { appendAudit } from '../../base/audit/trail';
import { forever } from '../../records/catalog/points';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../deps';
import { expireAll } from '../runs/expiry';
import { recordPromises } from '../policies/promises';

interface TakenOver {
  readonly point_id: string;
  readonly series_no: number;
}

/** Copies on a target that were taken over with it and stay until two people let them go, in series that a policy makes points of by now. */
export function takenOver(db: Knex, targetId: string): Promise<TakenOver[]> {
  const governed = db('point as g').whereRaw('g.series_no = p.series_no').where({ 'g.state': 'visible' }).whereNotNull('g.policy_id');
  return db('copy as c')
    .join('point as p', 'p.id', 'c.point_id')
    .where({ 'c.target_id': targetId, 'c.state': 'present', 'c.promised_until': forever, 'p.state': 'visible', 'p.held': false })
    .whereNull('p.policy_id')
    .whereNull('p.keep_own')
    .whereExists(governed)
    .select<TakenOver[]>('c.point_id', 'p.series_no');
}

/** Lets what was taken over with a target be kept as the policies say from now on. `by`: who did it, for the trail. */
export async function settle(deps: Deps, id: string, by: string): Promise<void> {
  const now = deps.clock.now();
  await inTransaction(deps.db, async (trx) => {
    const copies = await takenOver(trx, id);
    for (let from = 0; from < copies.length; from += 1000)
      await trx('copy')
        .where({ target_id: id })
        .whereIn(
          'point_id',
          copies.slice(from, from + 1000).map((c) => c.point_id),
        )
        .update({ promised_until: 0 });
    for (const no of new Set(copies.map((c) => c.series_no))) await recordPromises(trx, now, no);
    await appendAudit(trx, now, { actor: by, action: 'target.settle', object: `target ${id}`, detail: `${copies.length} copies` });
  });
  await expireAll(deps);
  await deps.events.emit('estate');
}
