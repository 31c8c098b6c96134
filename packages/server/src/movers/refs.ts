import type { PointRef, TargetRef } from '@lithodex/contract';
import type { Knex } from 'knex';
import type { Secrets } from '../secrets';
import { refOf, type PlaceColumns } from '../targets/target-rows';

/** A target as movers need it. */
export async function targetRef(db: Knex, secrets: Secrets, id: string): Promise<TargetRef> {
  return refOf(secrets, await db('target').where({ id }).first<PlaceColumns>());
}

/** References to points as movers need them. */
export async function pointRefs(db: Knex, secrets: Secrets, ids: readonly string[]): Promise<PointRef[]> {
  type Row = PlaceColumns & { taskId: string; seriesId: string; root: Buffer };
  const rows = await db('point as p')
    .join('series as s', 's.no', 'p.series_no')
    .join('target as t', 't.id', 's.target_id')
    .join('workload as w', 'w.id', 'p.workload_id')
    .join('source as o', 'o.id', 'w.source_id')
    .whereIn('p.id', ids)
    .select<Row[]>('p.id as taskId', 's.id as seriesId', 't.id', 't.folder', 't.bucket', 't.secret', 'o.folder as root');
  return rows.map((r) => ({
    taskId: r.taskId,
    seriesId: r.seriesId,
    target: refOf(secrets, r),
    root: r.root.toString('latin1'),
  }));
}
