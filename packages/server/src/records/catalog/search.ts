import { escapePath, joinPath } from '@lithodex/core';
import type { Found } from '@lithodex/contract';
import type { Knex } from 'knex';
import { rowsOf } from '../../base/db/open';
import { kindCodes, openEnd } from './ordinals';

const mostNames = 4000;
const likeText = (text: string) =>
  `%${text
    .normalize('NFC')
    .toLowerCase()
    .replace(/[\\%_]/g, '\\$&')}%`;

interface Hit {
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

/** Items whose name holds a text, over all points; `only` limits it to some workloads. */
export async function searchNames(db: Knex, text: string, only: readonly number[] | null, offset: number, limit: number): Promise<Found[]> {
  if (only?.length === 0) return [];
  const hits = await rowsOf<Hit>(
    db.raw(
      `SELECT g.*, w.name AS workload, s.workload_id, f.path AS folder FROM (
         SELECT i.series_no, i.parent, i.name, MAX(i.kind) AS kind, COUNT(*) AS versions, MIN(i.from_ord) AS first, MAX(i.to_ord) AS last,
                SUBSTRING_INDEX(GROUP_CONCAT(i.size ORDER BY i.from_ord DESC), ',', 1) AS size
         FROM (SELECT hash FROM item_name WHERE folded LIKE ? LIMIT ${mostNames}) n JOIN item i ON i.name_hash = n.hash
         ${only ? `JOIN series t ON t.no = i.series_no AND t.workload_id IN (${only.map(Number).join(', ')})` : ''}
         GROUP BY i.series_no, i.parent, i.name ORDER BY i.series_no, i.name, i.parent LIMIT ? OFFSET ?
       ) g JOIN series s ON s.no = g.series_no JOIN workload w ON w.id = s.workload_id LEFT JOIN folder f ON f.series_no = g.series_no AND f.hash = g.parent
       ORDER BY g.series_no, g.name, g.parent`,
      [likeText(text), limit, offset],
    ),
  );
  const series = [...new Set(hits.map((h) => h.series_no))];
  const points = await db('point')
    .whereIn('series_no', series)
    .where({ state: 'visible' })
    .orderBy('ordinal')
    .select<{ id: string; series_no: number; ordinal: number; moment: number }[]>('id', 'series_no', 'ordinal', 'moment');
  return hits.flatMap((hit): Found[] => {
    const own = points.filter((p) => p.series_no === hit.series_no);
    const holding = own.filter((p) => p.ordinal >= hit.first && p.ordinal < hit.last);
    const last = holding.at(-1);
    if (!last) return [];
    return [
      {
        workload: { id: hit.workload_id, name: hit.workload },
        path: escapePath(joinPath(hit.folder?.toString('latin1') ?? '', hit.name.toString('latin1'))),
        kind: kindCodes[hit.kind] ?? 'file',
        size: Number(hit.size),
        versions: Number(hit.versions),
        firstSeen: holding[0]!.moment,
        lastSeen: last.moment,
        lastPointId: last.id,
        stillThere: hit.last === openEnd || hit.last > own.at(-1)!.ordinal,
      },
    ];
  });
}
