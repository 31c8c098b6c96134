import type { Knex } from 'knex';
import type { PointRow } from '../catalog/points';
import { ApiError, found } from '../../base/errors';
import { within, type Actor } from '../../base/http/access';

/** A living point the actor may see. Throws NOT_FOUND, POINT_GONE, OUTSIDE_REMIT. */
export async function pointFor(db: Knex, id: string, actor: Actor): Promise<PointRow> {
  const point = found(await db('point').where({ id }).first<PointRow | undefined>());
  within(actor, point.workload_id);
  if (point.state !== 'visible') throw new ApiError('POINT_GONE');
  return point;
}
