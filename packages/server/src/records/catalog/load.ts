import { joinPath } from '@lithodex/core';
import type { ItemChange } from '@lithodex/contract';
import type { Knex } from 'knex';
import { endings, foldName, kindCodes, openEnd, pathHash } from './ordinals';

const rowsPerInsert = 1000;

/** Takes back what an attempt that did not end has loaded under this ordinal. */
export async function unload(trx: Knex.Transaction, series: number, ordinal: number): Promise<void> {
  await trx('item').where({ series_no: series, from_ord: ordinal }).delete();
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
  const closing = changes.filter((c) => c.change !== 'added');
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
  const opening = changes.flatMap((c) => (c.facts && (c.change === 'added' || c.change === 'changed') ? [{ ...c, facts: c.facts }] : []));
  const names = new Map<string, string>();
  const folders = new Map<string, Buffer>();
  const rows = opening.map(({ folder, name, facts }) => {
    const { folded, hash } = foldName(name);
    names.set(hash, folded);
    if (facts.kind === 'folder') folders.set(joinPath(folder, name), hashOf(joinPath(folder, name)));
    return {
      series_no: series,
      parent: hashOf(folder),
      name: Buffer.from(name, 'latin1'),
      from_ord: ordinal,
      to_ord: openEnd,
      ended: endings.open,
      kind: Math.max(0, kindCodes.indexOf(facts.kind as (typeof kindCodes)[number])),
      size: facts.size,
      mtime_ns: facts.mtimeNs,
      mode: facts.mode,
      uid: facts.uid,
      gid: facts.gid,
      items: facts.items,
      flags: facts.flags,
      content: Buffer.from(facts.content.padEnd(32, '0'), 'hex'),
      name_hash: hash,
    };
  });
  for (let from = 0; from < rows.length; from += rowsPerInsert)
    await trx('item')
      .insert(rows.slice(from, from + rowsPerInsert))
      .onConflict()
      .ignore();
  const nameRows = [...names].map(([hash, folded]) => ({ hash, folded: Buffer.from(folded).subarray(0, 1024) }));
  for (let from = 0; from < nameRows.length; from += rowsPerInsert)
    await trx('item_name')
      .insert(nameRows.slice(from, from + rowsPerInsert))
      .onConflict()
      .ignore();
  const folderRows = [...folders].map(([path, hash]) => ({ series_no: series, hash, path: Buffer.from(path, 'latin1') }));
  for (let from = 0; from < folderRows.length; from += rowsPerInsert)
    await trx('folder')
      .insert(folderRows.slice(from, from + rowsPerInsert))
      .onConflict()
      .ignore();
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
