import type { Knex } from 'knex';
import type { PointRow } from '../catalog/points';
import { pointRowOf, snapshotRows } from '../systems/snapshot-rows';
import { ApiError, found } from '../../base/errors';
import { within, type Actor } from '../../base/http/access';

/** As {@link pointFor}, also what a storage keeps: to be looked into and read from. */
export async function readablePoint(db: Knex, id: string, actor: Actor): Promise<PointRow> {
  const stored = await db('point').where({ id }).first<PointRow | undefined>();
  if (stored) return living(stored, actor);
  const snapshot = found((await snapshotRows(db, [id]))[0]);
  within(actor, snapshot.workload_id);
  if (snapshot.gone_at !== null) throw new ApiError('POINT_GONE');
  return pointRowOf(snapshot);
}

/** A living point the actor may see. Throws NOT_FOUND, POINT_GONE, OUTSIDE_REMIT. */
export async function pointFor(db: Knex, id: string, actor: Actor): Promise<PointRow> {
  return living(found(await db('point').where({ id }).first<PointRow | undefined>()), actor);
}

function living(point: PointRow, actor: Actor): PointRow {
  within(actor, point.workload_id);
  if (point.state !== 'visible') throw new ApiError('POINT_GONE');
  return point;
}
