import type { Knex } from 'knex';
import { endings, kindCodes } from './ordinals';

/** Rows of files that were there at `good` and ended, replaced or gone, by `suspect`. An item of `opening` counts whole: what lies inside it is left out. */
export function damagedItems(db: Knex, series: number, good: number, suspect: number, opening: readonly string[]) {
  const inside = (item: string) => {
    const below = Buffer.from(`${item}/`, 'latin1');
    return db('folder as f')
      .whereRaw('f.series_no = i.series_no AND f.hash = i.parent')
      .whereRaw('(f.path = ? OR LEFT(f.path, ?) = ?)', [Buffer.from(item, 'latin1'), below.length, below]);
  };
  return db('item as i')
    .modify((q) => {
      for (const item of opening) void q.whereNotExists(inside(item));
    })
    .where('i.series_no', series)
    .where('i.to_ord', '>', good)
    .where('i.to_ord', '<=', suspect)
    .where('i.from_ord', '<=', good)
    .whereIn('i.ended', [endings.replaced, endings.gone])
    .where('i.kind', kindCodes.indexOf('file'))
    .orderBy(['i.parent', 'i.name'])
    .select('i.*');
}
