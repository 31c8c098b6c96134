import type { Knex } from 'knex';
import { endings, kindCodes } from './ordinals';

/** Rows of files that were there at `good` and ended, replaced or gone, by `suspect`. */
export function damagedItems(db: Knex, series: number, good: number, suspect: number) {
  return db('item as i')
    .where('i.series_no', series)
    .where('i.to_ord', '>', good)
    .where('i.to_ord', '<=', suspect)
    .where('i.from_ord', '<=', good)
    .whereIn('i.ended', [endings.replaced, endings.gone])
    .where('i.kind', kindCodes.indexOf('file'))
    .orderBy(['i.parent', 'i.name'])
    .select('i.*');
}
