import { createHash } from 'node:crypto';
import { escapePath, grouped } from '@lithodex/core';
import type { FilesSeen, Trace, Traces } from '@lithodex/contract';
import type { Knex } from 'knex';
import type { z } from 'zod';

/** Rows that are written, and paths that are asked for, at once. */
const rowsAtOnce = 500;
/** Places that are told of, of all sums together. */
const mostPlaces = 2000;

/** What stands for a path (byte string) in a key. */
export const hashOfPath = (path: string): Buffer => createHash('md5').update(Buffer.from(path, 'latin1')).digest();

interface Standing {
  readonly path_hash: Buffer;
  readonly sum: Buffer;
}

/** Keeps what contents the files of a point have: what stood there before ends with it, and what is as it was goes on. */
export async function keepSums(
  trx: Knex.Transaction,
  { series_no, moment }: { readonly series_no: number; readonly moment: number },
  { whole, files, gone, goneBelow }: Pick<z.infer<typeof FilesSeen>, 'whole' | 'files' | 'gone' | 'goneBelow'>,
): Promise<void> {
  const open = () => trx('seen_sum').where({ series_no, to_at: null }).where('from_at', '<', moment);
  if (whole) await open().update({ to_at: moment });
  const ended = [...gone, ...files.map((f) => f.path)];
  for (let from = 0; from < ended.length; from += rowsAtOnce)
    await open()
      .whereIn('path_hash', ended.slice(from, from + rowsAtOnce).map(hashOfPath))
      .update({ to_at: moment });
  for (const above of goneBelow) {
    const below = Buffer.from(`${above}/`, 'latin1');
    await open().whereRaw('LEFT(path, ?) = ?', [below.length, below]).update({ to_at: moment });
  }
  const rows = files
    .filter((f) => f.sum !== '')
    .map(({ path, size, sum }) => ({
      ...{ series_no, path_hash: hashOfPath(path), path: Buffer.from(path, 'latin1'), size, sum: Buffer.from(sum, 'hex') },
      ...{ from_at: moment, to_at: null },
    }));
  for (let from = 0; from < rows.length; from += rowsAtOnce) {
    const fresh = await goingOn(trx, series_no, moment, rows.slice(from, from + rowsAtOnce));
    if (fresh.length) await trx('seen_sum').insert(fresh).onConflict().merge(['size', 'sum']);
  }
}

/** What stands there as it did until this point goes on; gives the others. */
async function goingOn<R extends Standing>(trx: Knex.Transaction, series: number, moment: number, rows: readonly R[]): Promise<R[]> {
  const keyOf = (r: Standing) => `${r.path_hash.toString('hex')} ${r.sum.toString('hex')}`;
  const found = await trx('seen_sum')
    .where({ series_no: series, to_at: moment })
    .whereIn(
      'path_hash',
      rows.map((r) => r.path_hash),
    )
    .select<(Standing & { no: number })[]>('no', 'path_hash', 'sum');
  const ended = new Map(found.map((r) => [keyOf(r), r.no]));
  const known = rows.flatMap((r) => ended.get(keyOf(r)) ?? []);
  if (known.length) await trx('seen_sum').whereIn('no', known).update({ to_at: null });
  return rows.filter((r) => !ended.has(keyOf(r)));
}

interface Row {
  readonly sum: Buffer;
  readonly path: Buffer;
  readonly size: number;
  readonly from_at: number;
  readonly to_at: number | null;
  readonly series_no: number;
  readonly point_id: string | null;
}

/** Where contents of these sums are, or were, as far as it was scanned; `remit`: ids of the workloads that may be told of, null for all. */
export async function tracesOf(db: Knex, sums: readonly string[], remit: readonly number[] | null): Promise<Traces> {
  const wanted = [...new Set(sums)];
  const series = await db('series as s')
    .join('workload as w', 'w.id', 's.workload_id')
    .modify((q) => {
      if (remit) void q.whereIn('w.id', [...remit]);
    })
    .select<{ no: number; id: number; name: string }[]>('s.no', 'w.id', 'w.name');
  const workloads = new Map(series.map(({ no, id, name }) => [no, { id, name }]));
  const holding = db('point as p')
    .whereRaw("p.series_no = t.series_no AND p.state = 'visible' AND p.moment >= t.from_at AND (t.to_at IS NULL OR p.moment < t.to_at)")
    .orderBy('p.moment', 'desc')
    .limit(1)
    .select('p.id')
    .as('point_id');
  // by their sums, and not through all that a series ever held
  const rows = await db
    .from(db.raw('seen_sum as t force index (sum)'))
    .whereIn(
      't.sum',
      wanted.map((sum) => Buffer.from(sum, 'hex')),
    )
    .whereIn('t.series_no', [...workloads.keys()])
    .orderBy('t.from_at', 'desc')
    .limit(mostPlaces + 1)
    .select<Row[]>('t.sum', 't.path', 't.size', 't.from_at', 't.to_at', 't.series_no', holding);
  const shown = rows.slice(0, mostPlaces);
  const ids = [...new Set(shown.flatMap((r) => r.point_id ?? []))];
  const points = await db('point').whereIn('id', ids).select<{ id: string; moment: number }[]>('id', 'moment');
  const moments = new Map(points.map((p) => [p.id, p.moment]));
  const found = [...grouped(shown, (r) => r.sum.toString('hex'))].map(([sum, own]): Trace => ({
    sum,
    places: own.map((r) => ({
      workload: workloads.get(r.series_no)!,
      path: escapePath(r.path.toString('latin1')),
      size: r.size,
      firstSeen: r.from_at,
      goneAt: r.to_at,
      point: r.point_id === null ? null : { id: r.point_id, moment: moments.get(r.point_id) ?? r.from_at },
    })),
  }));
  const known = new Set(found.map((f) => f.sum));
  const more = rows.length > mostPlaces;
  return { rows: found, nowhere: more ? [] : wanted.filter((sum) => !known.has(sum)), more, looked: await lookedOf(db, remit) };
}

/** Workloads of whose newest points the sums are known. */
async function lookedOf(db: Knex, remit: readonly number[] | null): Promise<Traces['looked']> {
  const rows = await db('point as p')
    .leftJoin('point_scan as s', 's.point_id', 'p.id')
    .where({ 'p.state': 'visible' })
    .whereNot({ 'p.kind': 'log' })
    .modify((q) => {
      if (remit) void q.whereIn('p.workload_id', [...remit]);
    })
    .groupBy('p.workload_id')
    .select<{ workload_id: number; newest: number; summed: number | null }[]>(
      'p.workload_id',
      db.raw('MAX(p.moment) AS newest'),
      db.raw('MAX(CASE WHEN s.sums_too THEN p.moment END) AS summed'),
    );
  return { workloads: rows.filter((r) => Number(r.newest) === Number(r.summed ?? -1)).length, of: rows.length };
}
