import type { Knex } from 'knex';
import { rowsOf } from '../../base/db/open';
import { insertNames, mostInBlock } from './name-blocks';

const rowsAtOnce = 20_000;
/** So many blocks more than needed, and names no item has any more, are left as they are. */
const blocksLeft = 30;
const namesLeft = 20_000;

/** Writes the names of a series anew where they stand in far more blocks than they need, or where most are of items that are gone. */
export async function rewriteNames(db: Knex): Promise<void> {
  const all = await rowsOf<{ no: number; names: number | null; stale: 0 | 1; blocks: number; written: string | number }>(
    db.raw(
      `SELECT s.no, s.names, s.names_stale AS stale, COUNT(b.no) AS blocks, COALESCE(SUM(b.count), 0) AS written
       FROM series s LEFT JOIN name_block b ON b.series_no = s.no GROUP BY s.no`,
    ),
  );
  for (const { no, names, stale, blocks, written } of all) {
    const kept = names ?? Number(written);
    if (names === null && !stale) await db('series').where({ no }).update({ names: kept });
    if (stale || blocks > blocksLeft + (2 * kept) / mostInBlock || Number(written) > namesLeft + 2 * kept) await rewriteSeries(db, no);
  }
}

/** What is loaded meanwhile has blocks of its own, which stay. */
async function rewriteSeries(db: Knex, series: number): Promise<void> {
  await db.transaction(
    async (trx) => {
      // another server may be about to do the same
      await trx('series').where({ no: series }).forUpdate().first('no');
      const old = (await trx('name_block').where({ series_no: series }).select<{ no: number }[]>('no')).map((b) => b.no);
      let names = 0;
      for (let last: NameRow | undefined, full = true; full;) {
        const rows = await trx('item')
          .where({ series_no: series })
          .modify((q) => {
            if (last) void q.whereRaw('(parent > ? OR (parent = ? AND name > ?))', [last.parent, last.parent, last.name]);
          })
          .distinct<NameRow[]>('parent', 'name')
          .orderBy(['parent', 'name'])
          .limit(rowsAtOnce);
        await insertNames(trx, series, 0, entriesOf(rows));
        names += rows.length;
        last = rows.at(-1);
        full = rows.length === rowsAtOnce;
      }
      for (let at = 0; at < old.length; at += 1000)
        await trx('name_block')
          .whereIn('no', old.slice(at, at + 1000))
          .delete();
      await trx('series').where({ no: series }).update({ names, names_stale: false });
    },
    { isolationLevel: 'repeatable read' },
  );
}

interface NameRow {
  readonly parent: Buffer;
  readonly name: Buffer;
}

const entriesOf = (rows: readonly NameRow[]) => rows.map(({ parent, name }) => ({ parent, name: name.toString('latin1') }));
