import type { PointTotals } from '@lithodex/contract';
import type { EarlierPoint } from '@lithodex/core';
import type { Knex } from 'knex';
import { fromJsonOrNull } from '../../base/db/json';

/** So many points before tell what is usual. */
const lookedAt = 70;

interface Row {
  readonly moment: number;
  readonly counts: unknown;
  readonly suspect: 0 | 1;
  readonly added: number;
  readonly changed: number;
  readonly removed: number;
  readonly files: number;
}

/** What points of a series before an ordinal changed, oldest first, expired ones too: what is gone still teaches what is usual. */
export async function earlierPoints(db: Knex, series: number, before: number): Promise<EarlierPoint[]> {
  const rows = await db('point')
    .where({ series_no: series })
    .where('ordinal', '<', before)
    .whereNotNull('builds_on')
    .whereNot({ kind: 'synthetic' })
    .orderBy('ordinal', 'desc')
    .limit(lookedAt)
    .select<Row[]>('moment', 'counts', 'suspect', 'added', 'changed', 'removed', 'files');
  return rows.reverse().map((r) => ({ moment: r.moment, counts: countsOf(r), held: r.suspect === 1 }));
}

/** What was taken before numbers were kept says less of itself. */
function countsOf(row: Row): EarlierPoint['counts'] {
  const known = fromJsonOrNull<PointTotals['changes']>(row.counts);
  if (known) return known;
  const { added, changed, removed, files } = row;
  return { before: Math.max(0, files - added + removed), added, changed, removed, random: 0, turnedRandom: 0, renamed: 0 };
}
