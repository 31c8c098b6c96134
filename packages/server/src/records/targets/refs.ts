import type { PointRef, TargetRef } from '@lithodex/contract';
import type { Knex } from 'knex';
import type { Secrets } from '../../base/secrets';
import { snapshotRefs } from '../systems/snapshot-rows';
import { refOf, shownPlace, type PlaceColumns } from './target-rows';

/** A target as movers need it. */
export async function targetRef(db: Knex, secrets: Secrets, id: string): Promise<TargetRef> {
  return refOf(secrets, await db('target').where({ id }).first<PlaceColumns>());
}

/** The targets but one, with their names. */
export async function otherTargets(db: Knex, secrets: Secrets, id: string): Promise<{ name: string; target: TargetRef }[]> {
  const rows = await db('target').whereNot({ id }).select<(PlaceColumns & { name: string })[]>();
  return rows.map((row) => ({ name: row.name, target: refOf(secrets, row) }));
}

/**
 * References to points as movers need them: each with the targets it stands on, the one to read first. That is `prefer` where it stands there, else a disk before a bucket before cartridges, else the
 * target it was first stored on. A point that has gone from everywhere meanwhile is looked for where it was first stored, so that whoever reads it is told.
 */
export async function pointRefs(db: Knex, secrets: Secrets, ids: readonly string[], prefer: string | null = null): Promise<PointRef[]> {
  type Row = PlaceColumns & { taskId: string; seriesId: string; root: Buffer; own: 0 | 1; state: string };
  const rows = await db('point as p')
    .join('series as s', 's.no', 'p.series_no')
    .join('copy as c', 'c.point_id', 'p.id')
    .join('target as t', 't.id', 'c.target_id')
    .join('workload as w', 'w.id', 'p.workload_id')
    .join('source as o', 'o.id', 'w.source_id')
    .whereIn('p.id', ids)
    .where((q) => void q.where('c.state', 'present').orWhereRaw('c.target_id = s.target_id'))
    .select<Row[]>(
      'p.id as taskId',
      's.id as seriesId',
      't.id',
      't.folder',
      't.address',
      't.secret',
      'o.folder as root',
      'c.state',
      db.raw('s.target_id = t.id AS own'),
    );
  const nearness = { folder: 2, bucket: 4, cartridges: 6 };
  const rank = (r: Row) => (r.state === 'present' ? 0 : 10) + (r.id === prefer ? 0 : nearness[shownPlace(r).kind]) - r.own;
  const byPoint = new Map<string, Row[]>();
  for (const row of rows) byPoint.set(row.taskId, [...(byPoint.get(row.taskId) ?? []), row]);
  const elsewhere = ids.filter((id) => !byPoint.has(id));
  const kept = elsewhere.length ? await snapshotRefs(db, secrets, elsewhere) : [];
  const stored = [...byPoint.values()].map((copies) => {
    const [first, ...others] = copies.sort((a, b) => rank(a) - rank(b)).filter((c, i) => i === 0 || c.state === 'present');
    return {
      taskId: first!.taskId,
      seriesId: first!.seriesId,
      target: refOf(secrets, first!),
      others: others.map((r) => refOf(secrets, r)),
      root: first!.root.toString('latin1'),
    };
  });
  return [...stored, ...kept];
}
