import { escapePath, joinPath } from '@lithodex/core';
import type { Different, Difference } from '@lithodex/contract';
import type { Knex } from 'knex';
import { rowsOf } from '../../base/db/open';
import { endings, kindCodes } from './ordinals';

type Change = Different['change'];
type Side = NonNullable<Different['then']>;

interface Key {
  readonly parent: Buffer;
  readonly name: Buffer;
  readonly changed: Change;
}

interface Row {
  readonly parent: Buffer;
  readonly name: Buffer;
  readonly from_ord: number;
  readonly to_ord: number;
  readonly kind: number;
  readonly size: number;
  readonly mtime_ns: number | string;
  readonly mode: number;
  readonly uid: number;
  readonly gid: number;
}

const folderCode = kindCodes.indexOf('folder');

/**
 * Items of which another row holds at each of two ordinals, each once: a row that ended between them is of the earlier one, a row that began between them of the later one. Folders whose
 * content alone changed are left out.
 */
function differing(db: Knex, series: number, from: number, to: number): Knex.Raw {
  return db.raw(
    `SELECT parent, name,
       IF(SUM(before_it) > 0, IF(SUM(after_it) > 0, 'changed', IF(MAX(ended) = ${endings.unseen}, 'unseen', 'gone')), 'added') AS changed
     FROM (
       SELECT parent, name, 1 AS before_it, 0 AS after_it, ended, kind, mode, uid, gid FROM item
         WHERE series_no = ? AND to_ord > ? AND to_ord <= ? AND from_ord <= ?
       UNION ALL
       SELECT parent, name, 0, 1, 0, kind, mode, uid, gid FROM item
         WHERE series_no = ? AND from_ord > ? AND from_ord <= ? AND to_ord > ?
     ) sides
     GROUP BY parent, name
     HAVING NOT (SUM(before_it) > 0 AND SUM(after_it) > 0 AND MIN(kind) = ${folderCode} AND MAX(kind) = ${folderCode}
       AND MIN(mode) = MAX(mode) AND MIN(uid) = MAX(uid) AND MIN(gid) = MAX(gid))`,
    [series, from, to, from, series, from, to, to],
  );
}

/** How many items differ between two ordinals of a series, by how. */
export async function differenceCounts(db: Knex, series: number, from: number, to: number): Promise<NonNullable<Difference['counts']>> {
  const rows = await rowsOf<{ changed: Change; n: number }>(
    db.raw('SELECT changed, COUNT(*) AS n FROM (?) d GROUP BY changed', [differing(db, series, from, to)]),
  );
  const of = (change: Change) => Number(rows.find((r) => r.changed === change)?.n ?? 0);
  return { changed: of('changed'), gone: of('gone'), added: of('added'), unseen: of('unseen') };
}

/** A page of what differs between two ordinals of a series: what changed first, then what is gone, new, not looked at. */
export async function differenceRows(
  db: Knex,
  series: number,
  { from, to }: { readonly from: number; readonly to: number },
  show: Change | 'all',
  { offset, limit }: { readonly offset: number; readonly limit: number },
): Promise<Different[]> {
  const keys = await rowsOf<Key>(
    db.raw(
      `SELECT * FROM (?) d ${show === 'all' ? '' : 'WHERE changed = ?'}
       ORDER BY FIELD(changed, 'changed', 'gone', 'added', 'unseen'), parent, name LIMIT ? OFFSET ?`,
      [differing(db, series, from, to), ...(show === 'all' ? [] : [show]), limit, offset],
    ),
  );
  if (!keys.length) return [];
  const rows = await db('item')
    .where({ series_no: series })
    .whereIn(
      ['parent', 'name'],
      keys.map((k) => [k.parent, k.name]),
    )
    .where('from_ord', '<=', to)
    .where('to_ord', '>', from)
    .select<Row[]>();
  const folders = await db('folder')
    .where({ series_no: series })
    .whereIn('hash', [...new Map(keys.map((k) => [k.parent.toString('hex'), k.parent])).values()])
    .select<{ hash: Buffer; path: Buffer }[]>('hash', 'path');
  const pathOf = new Map(folders.map((f) => [f.hash.toString('hex'), f.path.toString('latin1')]));
  const rowsByKey = new Map<string, Row[]>();
  const keyOf = ({ parent, name }: Pick<Row, 'parent' | 'name'>) => `${parent.toString('latin1')}/${name.toString('latin1')}`;
  for (const row of rows) rowsByKey.set(keyOf(row), [...(rowsByKey.get(keyOf(row)) ?? []), row]);
  return keys.map((key): Different => {
    const own = rowsByKey.get(keyOf(key)) ?? [];
    const at = (ordinal: number) => own.find((r) => r.from_ord <= ordinal && r.to_ord > ordinal);
    return {
      path: escapePath(joinPath(pathOf.get(key.parent.toString('hex')) ?? '', key.name.toString('latin1'))),
      change: key.changed,
      then: sideOf(at(from)),
      after: sideOf(at(to)),
    };
  });
}

function sideOf(row: Row | undefined): Side | null {
  if (!row) return null;
  const { size, mode, uid, gid } = row;
  return { kind: kindCodes[row.kind] ?? 'file', size: Number(size), mtimeNs: String(row.mtime_ns), mode, uid, gid };
}
