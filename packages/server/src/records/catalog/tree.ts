import { baseName, escapePath, joinPath, parentPath } from '@lithodex/core';
import { itemFlags, type TreeRow } from '@lithodex/contract';
import type { Knex } from 'knex';
import { openingItems } from '../recover/inside-path';
import type { PointRow } from './points';
import { endings, kindCodes, pathHash } from './ordinals';

export interface ItemRow {
  readonly parent: Buffer;
  readonly name: Buffer;
  readonly from_ord: number;
  readonly to_ord: number;
  readonly ended: number;
  readonly kind: number;
  readonly size: number;
  readonly mtime_ns: number | string;
  readonly mode: number;
  readonly uid: number;
  readonly gid: number;
  readonly items: number;
  readonly flags: number;
  readonly content: Buffer;
}

export const nameOf = (row: { name: Buffer }) => row.name.toString('latin1');
export const kindOf = (row: { kind: number }) => kindCodes[row.kind] ?? 'file';

/** Items of one folder as of an ordinal, by name, after `after` (byte string). */
export function folderAt(db: Knex, series: number, path: string, ordinal: number, after: string, limit: number): Promise<ItemRow[]> {
  return db('item')
    .where({ series_no: series, parent: pathHash(path) })
    .where('from_ord', '<=', ordinal)
    .where('to_ord', '>', ordinal)
    .where('name', '>', Buffer.from(after, 'latin1'))
    .orderBy('name')
    .limit(limit)
    .select<ItemRow[]>();
}

/** One item as of an ordinal. */
export async function itemAt(db: Knex, series: number, folder: string, name: string, ordinal: number): Promise<ItemRow | undefined> {
  return db('item')
    .where({ series_no: series, parent: pathHash(folder), name: Buffer.from(name, 'latin1') })
    .where('from_ord', '<=', ordinal)
    .where('to_ord', '>', ordinal)
    .first<ItemRow | undefined>();
}

const itemsAtOnce = 2000;

/** Items of a series at an ordinal by their paths: many with one question. Those that are not there are left out. */
export async function itemsAt(db: Knex, series: number, paths: readonly string[], ordinal: number): Promise<Map<string, ItemRow>> {
  const found = new Map<string, ItemRow>();
  const keyOf = (parent: Buffer, name: Buffer) => `${parent.toString('latin1')}/${name.toString('latin1')}`;
  for (let from = 0; from < paths.length; from += itemsAtOnce) {
    const wanted = paths
      .slice(from, from + itemsAtOnce)
      .map((path) => ({ path, parent: pathHash(parentPath(path)), name: Buffer.from(baseName(path), 'latin1') }));
    const rows = await db('item')
      .where({ series_no: series })
      .where('from_ord', '<=', ordinal)
      .where('to_ord', '>', ordinal)
      .whereIn(
        ['parent', 'name'],
        wanted.map(({ parent, name }) => [parent, name]),
      )
      .select<ItemRow[]>();
    const rowOf = new Map(rows.map((r) => [keyOf(r.parent, r.name), r]));
    for (const { path, parent, name } of wanted) {
      const row = rowOf.get(keyOf(parent, name));
      if (row) found.set(path, row);
    }
  }
  return found;
}

export interface Damage {
  changed: number;
  gone: number;
  suspect: number;
}

/** What became of the files below each folder directly in `path` between two ordinals: damage per child name. */
export async function damageBelow(
  db: Knex,
  series: number,
  path: string,
  then: number,
  newest: number,
  suspects: readonly number[],
): Promise<Map<string, Damage>> {
  const sums = new Map<string, Damage>();
  if (then >= newest) return sums;
  const suspectIn = (suspects.length ? suspects : [-1]).map(Number).join(', ');
  const rows = await db('item as i')
    .join('folder as f', (j) => j.on('f.series_no', 'i.series_no').andOn('f.hash', 'i.parent'))
    .where('i.series_no', series)
    .where('i.to_ord', '>', then)
    .where('i.to_ord', '<=', newest)
    .where('i.from_ord', '<=', then)
    .whereNot('i.kind', kindCodes.indexOf('folder'))
    .groupBy('i.parent')
    .select<{ path: Buffer; suspect: number; gone: number; n: number }[]>(
      db.raw(
        `MAX(f.path) AS path, COUNT(*) AS n, SUM(i.to_ord IN (${suspectIn})) AS suspect, SUM(i.to_ord NOT IN (${suspectIn}) AND i.ended = ?) AS gone`,
        [endings.gone],
      ),
    );
  const prefix = path === '' ? '' : `${path}/`;
  for (const row of rows) {
    const folder = row.path.toString('latin1');
    if (!folder.startsWith(prefix) || folder.length === prefix.length) continue;
    const child = folder.slice(prefix.length).split('/')[0]!;
    const sum = sums.get(child) ?? { changed: 0, gone: 0, suspect: 0 };
    sum.suspect += Number(row.suspect);
    sum.gone += Number(row.gone);
    sum.changed += Number(row.n) - Number(row.suspect) - Number(row.gone);
    sums.set(child, sum);
  }
  return sums;
}

/** One folder of a point with what has become of each item since. `points` are the living points of the series, oldest first. */
export async function treeRows(
  db: Knex,
  point: PointRow,
  points: readonly PointRow[],
  path: string,
  after: string,
  limit: number,
): Promise<TreeRow[]> {
  const rows = await folderAt(db, point.series_no, path, point.ordinal, after, limit);
  if (!rows.length) return [];
  const newest = points[points.length - 1]!;
  const opening = new Set(openingItems(point));
  const suspects = points.filter((p) => p.suspect === 1).map((p) => p.ordinal);
  const parent = pathHash(path);
  const names = rows.map((r) => r.name);
  const counts = await db('item')
    .where({ series_no: point.series_no, parent })
    .whereIn('name', names)
    .groupBy('name')
    .select<{ name: Buffer; n: number }[]>('name', db.raw('COUNT(*) AS n'));
  const versions = new Map(counts.map((c) => [nameOf(c), Number(c.n)]));
  const now = await db('item')
    .where({ series_no: point.series_no, parent })
    .whereIn('name', names)
    .where('from_ord', '<=', newest.ordinal)
    .where('to_ord', '>', newest.ordinal)
    .select<ItemRow[]>();
  const present = new Map(now.map((r) => [nameOf(r), r]));
  const damage = await damageBelow(db, point.series_no, path, point.ordinal, newest.ordinal, suspects);
  return rows.map((row): TreeRow => {
    const name = nameOf(row);
    const isFolder = kindOf(row) === 'folder';
    const current = present.get(name);
    const hurt = damage.get(name) ?? { changed: 0, gone: 0, suspect: 0 };
    const good = points.filter((p) => p.suspect === 0 && p.ordinal >= row.from_ord && p.ordinal < row.to_ord).at(-1);
    return {
      name: escapePath(name),
      path: escapePath(joinPath(path, name)),
      kind: kindOf(row),
      size: row.size,
      items: row.items,
      mtimeNs: String(row.mtime_ns),
      mode: row.mode,
      uid: row.uid,
      gid: row.gid,
      unread: (row.flags & itemFlags.unread) !== 0,
      about: '',
      opens: opening.has(joinPath(path, name)),
      random: (row.flags & itemFlags.random) !== 0,
      since: sinceThen(row, current, isFolder, newest.ordinal, suspects),
      strip: isFolder ? { ...hurt, same: Math.max(0, row.items - hurt.changed - hurt.gone - hurt.suspect) } : null,
      versions: versions.get(name) ?? 1,
      lastGood: good ? { pointId: good.id, moment: good.moment } : null,
    };
  });
}

function sinceThen(
  row: ItemRow,
  current: ItemRow | undefined,
  isFolder: boolean,
  newest: number,
  suspects: readonly number[],
): TreeRow['since'] {
  if (row.to_ord > newest) return 'same';
  if (!current) return suspects.includes(row.to_ord) ? 'suspect' : row.ended === endings.unseen ? 'changed' : 'gone';
  if (isFolder && current.kind === row.kind)
    return current.mode === row.mode && current.uid === row.uid && current.gid === row.gid ? 'same' : 'changed';
  if (current.content.equals(row.content) && current.size === row.size && current.mode === row.mode) return 'same';
  return suspects.includes(row.to_ord) ? 'suspect' : 'changed';
}

/** Files at or below a path as of an ordinal, at most `most`, with their byte-string paths. */
export async function filesBelow(
  db: Knex,
  series: number,
  path: string,
  item: ItemRow | undefined,
  ordinal: number,
  most: number,
): Promise<{ path: string; row: ItemRow }[]> {
  if (item && kindOf(item) !== 'folder') return [{ path, row: item }];
  const found: { path: string; row: ItemRow }[] = [];
  const waiting = [path];
  while (waiting.length && found.length < most) {
    const folder = waiting.shift()!;
    for (const row of await folderAt(db, series, folder, ordinal, '', most)) {
      const at = joinPath(folder, nameOf(row));
      if (kindOf(row) === 'folder') waiting.push(at);
      else if (found.length < most) found.push({ path: at, row });
    }
  }
  return found;
}
