import { escapePath, joinPath } from '@lithodex/core';
import type { Found } from '@lithodex/contract';
import { kindNames, kinds } from '@lithodex/kinds';
import type { Knex } from 'knex';
import { rowsOf } from '../../base/db/open';
import { foldText, nameAt, type PlacedName } from './name-blocks';
import type { NameHit, NameIndex } from './name-index';
import { kindCodes, openEnd } from './ordinals';

const mostNames = 4000;

interface Item {
  readonly series_no: number;
  readonly workload_id: number;
  readonly workload: string;
  readonly folder: Buffer | null;
  readonly name: Buffer;
  readonly kind: number;
  readonly size: number;
  readonly versions: number;
  readonly first: number;
  readonly last: number;
}

/** A page of what was found, and where the next one begins. */
export interface FoundPage {
  readonly rows: Found[];
  readonly next: number | null;
}

/** Items whose name holds a text, over all points, by workload and name; `only` limits it to some workloads. */
export async function searchNames(
  db: Knex,
  index: NameIndex,
  text: string,
  only: readonly number[] | null,
  offset: number,
  limit: number,
): Promise<FoundPage> {
  if (only?.length === 0) return { rows: [], next: null };
  const series = only && new Set((await db('series').whereIn('workload_id', only).select<{ no: number }[]>('no')).map((s) => s.no));
  const hits = await index.find(foldText(text), series, mostNames);
  hits.sort((a, b) => a.series - b.series || (a.folded < b.folded ? -1 : a.folded > b.folded ? 1 : 0));
  const rows: Found[] = [];
  let at = offset;
  // names whose items are gone, or in no point, give no row
  while (rows.length < limit && at < hits.length) {
    const part = hits.slice(at, at + limit - rows.length);
    at += part.length;
    rows.push(...(await foundOf(db, await placedNames(db, part))));
  }
  return { rows, next: at < hits.length ? at : null };
}

/** Each once. */
async function placedNames(db: Knex, hits: readonly NameHit[]): Promise<(PlacedName & { readonly series: number })[]> {
  const blocks = await db('name_block')
    .whereIn('no', [...new Set(hits.map((h) => h.block))])
    .select<{ no: number; refs: Buffer }[]>('no', 'refs');
  const refs = new Map(blocks.map((b) => [b.no, b.refs]));
  const placed = new Map<string, PlacedName & { series: number }>();
  for (const { block, entry, series, folded } of hits) {
    const own = refs.get(block);
    const one = own && nameAt(own, entry, folded);
    if (one) placed.set(`${series} ${one.parent.toString('latin1')}${one.name}`, { ...one, series });
  }
  return [...placed.values()];
}

/** Items by their places, over all points; those that are in none are left out. */
export async function foundOf(db: Knex, names: readonly (PlacedName & { readonly series: number })[]): Promise<Found[]> {
  if (!names.length) return [];
  const items = await rowsOf<Item>(
    db.raw(
      `SELECT g.*, w.name AS workload, s.workload_id, f.path AS folder FROM (
         SELECT d.place, i.series_no, i.parent, i.name, MAX(i.kind) AS kind, COUNT(*) AS versions, MIN(i.from_ord) AS first, MAX(i.to_ord) AS last,
                SUBSTRING_INDEX(GROUP_CONCAT(i.size ORDER BY i.from_ord DESC), ',', 1) AS size
         FROM (${names.map((_, i) => (i ? 'SELECT ?, ?, ?, ?' : 'SELECT ? AS place, ? AS series, ? AS parent, ? AS name')).join(' UNION ALL ')}) d
         STRAIGHT_JOIN item i ON i.series_no = d.series AND i.parent = d.parent AND i.name = d.name
         GROUP BY d.place
       ) g JOIN series s ON s.no = g.series_no JOIN workload w ON w.id = s.workload_id LEFT JOIN folder f ON f.series_no = g.series_no AND f.hash = g.parent
       ORDER BY g.place`,
      names.flatMap(({ series, parent, name }, i) => [i, series, parent, Buffer.from(name, 'latin1')]),
    ),
  );
  const points = await db('point')
    .whereIn('series_no', [...new Set(items.map((h) => h.series_no))])
    .where({ state: 'visible' })
    .orderBy('ordinal')
    .select<{ id: string; series_no: number; ordinal: number; moment: number }[]>('id', 'series_no', 'ordinal', 'moment');
  return items.flatMap((item): Found[] => {
    const own = points.filter((p) => p.series_no === item.series_no);
    const holding = own.filter((p) => p.ordinal >= item.first && p.ordinal < item.last);
    const last = holding.at(-1);
    if (!last) return [];
    return [
      {
        workload: { id: item.workload_id, name: item.workload },
        path: escapePath(joinPath(item.folder?.toString('latin1') ?? '', item.name.toString('latin1'))),
        kind: kindCodes[item.kind] ?? 'file',
        size: Number(item.size),
        versions: Number(item.versions),
        firstSeen: holding[0]!.moment,
        lastSeen: last.moment,
        lastPointId: last.id,
        stillThere: item.last === openEnd || item.last > own.at(-1)!.ordinal,
      },
    ];
  });
}

/** Workloads that a policy has points of. */
export async function withPointsOf(db: Knex, policyId: number): Promise<number[]> {
  return (await db('policy_points').where({ policy_id: policyId }).select<{ workload_id: number }[]>('workload_id')).map(
    (r) => r.workload_id,
  );
}

/** How many workloads hold disks at whose newest point nobody told the names inside; `only` limits it to some. */
export async function notInsideOf(db: Knex, only: readonly number[] | null): Promise<number> {
  const opening = kindNames.filter((name) => kinds[name].opens);
  const query = db('workload_points as n').join('workload as w', 'w.id', 'n.workload_id').join('point as p', 'p.id', 'n.point_id');
  if (only) query.whereIn('w.id', only);
  const counted = await query.whereIn('w.kind', opening).where({ 'p.names_inside': 0 }).first<{ n: number }>(db.raw('COUNT(*) AS n'));
  return Number(counted.n);
}
