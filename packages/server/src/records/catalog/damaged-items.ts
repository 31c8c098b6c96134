import type { Knex } from 'knex';
import { endings, kindCodes } from './ordinals';
import type { ItemRow } from './tree';

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

/** Files that came, or went, after one ordinal and up to another, at most: both in the order of their places, so that what is left out is the same of both. */
const mostBetween = 200_000;

/** Rows of files that began or ended after `before` and up to `until`. */
export async function rowsBetween(db: Knex, series: number, before: number, until: number): Promise<ItemRow[]> {
  const files = () =>
    db('item')
      .where({ series_no: series, kind: kindCodes.indexOf('file') })
      .orderBy(['parent', 'name'])
      .limit(mostBetween);
  const began = await files().where('from_ord', '>', before).where('from_ord', '<=', until).select<ItemRow[]>();
  const ended = await files().where('to_ord', '>', before).where('to_ord', '<=', until).where('from_ord', '<=', before).select<ItemRow[]>();
  return [...began, ...ended];
}

const foldersAtOnce = 5000;

/** The paths of the folders that rows lie in, as byte strings; '' for one that is not known. */
export async function folderPaths(
  db: Knex,
  series: number,
  rows: readonly Pick<ItemRow, 'parent'>[],
): Promise<(row: Pick<ItemRow, 'parent'>) => string> {
  const hashes = [...new Map(rows.map((r) => [r.parent.toString('latin1'), r.parent])).values()];
  const paths = new Map<string, string>();
  for (let from = 0; from < hashes.length; from += foldersAtOnce) {
    const found = await db('folder')
      .where({ series_no: series })
      .whereIn('hash', hashes.slice(from, from + foldersAtOnce))
      .select<{ hash: Buffer; path: Buffer }[]>('hash', 'path');
    for (const { hash, path } of found) paths.set(hash.toString('latin1'), path.toString('latin1'));
  }
  return ({ parent }) => paths.get(parent.toString('latin1')) ?? '';
}
