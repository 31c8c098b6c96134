import { Readable } from 'node:stream';
import { joinPath } from '@lithodex/core';
import type { ItemChange } from '@lithodex/contract';
import type { Knex } from 'knex';
import { insertNames, type PlacedName } from './name-blocks';
import { endings, kindCodes, openEnd, pathHash } from './ordinals';

const rowsPerInsert = 1000;

/** Takes back what an attempt that did not end has loaded under this ordinal. */
export async function unload(trx: Knex.Transaction, series: number, ordinal: number): Promise<void> {
  await trx('item').where({ series_no: series, from_ord: ordinal }).delete();
  await trx('name_block').where({ series_no: series, ordinal }).delete();
  await trx('item').where({ series_no: series, to_ord: ordinal }).update({ to_ord: openEnd, ended: endings.open });
}

/**
 * Loads a batch of differences under an ordinal that no visible point has yet: readers do not see it before the point becomes visible. Loading the
 * same batch twice changes nothing.
 */
export async function loadBatch(trx: Knex.Transaction, series: number, ordinal: number, changes: readonly ItemChange[]): Promise<void> {
  const hashes = new Map<string, Buffer>();
  const hashOf = (path: string) => {
    const known = hashes.get(path) ?? pathHash(path);
    hashes.set(path, known);
    return known;
  };
  const texts = new Map<string, string>();
  const hashText = (path: string) => {
    const known = texts.get(path) ?? plainBytes(hashOf(path).toString('latin1'));
    texts.set(path, known);
    return known;
  };
  const folderLine = (path: string) => `${hashText(path)}\t${plainBytes(path)}`;
  const closing = changes.filter((c) => c.change !== 'added' && c.change !== 'opened' && c.change !== 'closed');
  for (let from = 0; from < closing.length; from += rowsPerInsert) {
    const part = closing.slice(from, from + rowsPerInsert);
    const ending = (c: ItemChange) => (c.change === 'changed' ? endings.replaced : c.change === 'removed' ? endings.gone : endings.unseen);
    await trx.raw(
      `UPDATE (${part.map((_, i) => (i ? 'SELECT ?, ?, ?' : 'SELECT ? AS parent, ? AS name, ? AS ended')).join(' UNION ALL ')}) d
       STRAIGHT_JOIN item i ON i.series_no = ? AND i.parent = d.parent AND i.name = d.name AND i.to_ord = ? AND i.from_ord < ?
       SET i.to_ord = ?, i.ended = d.ended`,
      [...part.flatMap((c) => [hashOf(c.folder), Buffer.from(c.name, 'latin1'), ending(c)]), series, openEnd, ordinal, ordinal],
    );
  }
  const names: PlacedName[] = [];
  const folders: string[] = [];
  const items: string[] = [];
  for (const { change, folder, name, facts } of changes) {
    if (change === 'opened') folders.push(folderLine(joinPath(folder, name)));
    if (change === 'closed') await closeInside(trx, series, ordinal, joinPath(folder, name));
    if (!facts || (change !== 'added' && change !== 'changed')) continue;
    if (change === 'added') names.push({ parent: hashOf(folder), name });
    if (facts.kind === 'folder') folders.push(folderLine(joinPath(folder, name)));
    const kind = Math.max(0, kindCodes.indexOf(facts.kind as (typeof kindCodes)[number]));
    const { size, mtimeNs, mode, uid, gid, items: below, flags } = facts;
    const content = plainBytes(Buffer.from(facts.content.padEnd(32, '0'), 'hex').toString('latin1'));
    items.push(
      `${hashText(folder)}\t${plainBytes(name)}\t${kind}\t${size}\t${mtimeNs}\t${mode}\t${uid}\t${gid}\t${below}\t${flags}\t${content}`,
    );
  }
  await loadLines(
    trx,
    items,
    'item',
    `(parent, name, kind, size, mtime_ns, mode, uid, gid, items, flags, content)
     SET series_no = ?, from_ord = ?, to_ord = ?, ended = ?`,
    [series, ordinal, openEnd, endings.open],
  );
  await insertNames(trx, series, ordinal, names);
  await loadLines(trx, folders, 'folder', '(hash, path) SET series_no = ?', [series]);
}

/** Ends all that is known of what is inside an item, also what was told under this ordinal. */
async function closeInside(trx: Knex.Transaction, series: number, ordinal: number, path: string): Promise<void> {
  const item = Buffer.from(path, 'latin1');
  const below = Buffer.from(`${path}/`, 'latin1');
  const inside = 'item i JOIN folder f ON f.series_no = i.series_no AND f.hash = i.parent';
  const where = 'f.series_no = ? AND (f.path = ? OR LEFT(f.path, ?) = ?)';
  const bindings = [series, item, below.length, below];
  await trx.raw(`DELETE i FROM ${inside} WHERE ${where} AND i.from_ord = ?`, [...bindings, ordinal]);
  await trx.raw(`UPDATE ${inside} SET i.to_ord = ?, i.ended = ? WHERE ${where} AND i.to_ord = ?`, [
    ordinal,
    endings.unseen,
    ...bindings,
    openEnd,
  ]);
}

/** A byte string as it stands in a column of a line. */
const plainBytes = (byteString: string) => (/[\t\n\\]/.test(byteString) ? byteString.replace(/[\t\n\\]/g, (c) => `\\${c}`) : byteString);

/** Adds rows that are not there yet, given as lines (byte strings) of columns apart by tabs. Several times as fast as statements with values. */
async function loadLines(
  trx: Knex.Transaction,
  lines: readonly string[],
  table: string,
  columns: string,
  bindings: readonly (string | number)[],
): Promise<void> {
  if (!lines.length) return;
  const data = Buffer.from(`${lines.join('\n')}\n`, 'latin1');
  await trx
    .raw(`LOAD DATA LOCAL INFILE 'rows' IGNORE INTO TABLE ${table} CHARACTER SET binary ${columns}`, [...bindings])
    .options({ infileStreamFactory: () => Readable.from([data]) });
}

/** Removes the item rows that no living point of the series needs once the point with `ordinal` has gone. */
export async function dropUnneeded(trx: Knex.Transaction, series: number, ordinal: number): Promise<void> {
  const living = () => trx('point').where({ series_no: series, state: 'visible' });
  const older = await living().where('ordinal', '<', ordinal).max({ at: 'ordinal' }).first<{ at: number | null }>();
  const newer = await living().where('ordinal', '>', ordinal).min({ at: 'ordinal' }).first<{ at: number | null }>();
  const before = older.at ?? -1;
  const after = newer.at ?? openEnd;
  await trx('item')
    .where({ series_no: series })
    .where('from_ord', '>', before)
    .where('from_ord', '<=', ordinal)
    .where('to_ord', '<=', after)
    .delete();
}
