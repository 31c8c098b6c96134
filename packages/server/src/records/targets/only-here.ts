import type { Knex } from 'knex';

/** Points that stand on this target and on no other. */
export async function countOnlyHere(db: Knex, targetId: string): Promise<number> {
  const elsewhere = db('copy as o')
    .whereRaw('o.point_id = c.point_id')
    .where({ 'o.state': 'present' })
    .whereNot({ 'o.target_id': targetId });
  const only = await db('copy as c')
    .where({ 'c.target_id': targetId, 'c.state': 'present' })
    .whereNotExists(elsewhere)
    .count({ n: '*' })
    .first<{ n: number }>();
  return Number(only.n);
}
