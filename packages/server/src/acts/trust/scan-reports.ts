import type { FilesSeen, PointScanned } from '@lithodex/contract';
import type { Knex } from 'knex';
import type { z } from 'zod';
import { fromJson } from '../../base/db/json';
import { ApiError } from '../../base/errors';
import type { RunningTask } from '../../records/movers/running-task';
import { hashOfPath as hashOf, keepSums } from '../../records/trust/seen-sums';
import { ruleSetNow, scanSettings } from '../../records/trust/scan-rules';
import type { ScanPlan } from './scans';

interface Scanned {
  readonly workload_id: number;
  readonly series_no: number;
  readonly ordinal: number;
  readonly moment: number;
}

/** Rows that are written, and paths that are asked for, at once. */
const rowsAtOnce = 500;

/** A point of the scan that is told of. Throws NOT_FOUND for one that it was not asked for. */
async function pointOf(trx: Knex.Transaction, task: RunningTask, pointId: string): Promise<Scanned> {
  const { points } = fromJson<ScanPlan>(task.work);
  const point = points.includes(pointId)
    ? await trx('point').where({ id: pointId }).first<Scanned | undefined>('workload_id', 'series_no', 'ordinal', 'moment')
    : undefined;
  if (!point) throw new ApiError('NOT_FOUND');
  return point;
}

/** Keeps what a scan found in a point, in place of what an earlier one did. Rules that changed while it went on leave the point to the next scan. */
export async function keepScan(trx: Knex.Transaction, now: number, task: RunningTask, told: z.infer<typeof PointScanned>): Promise<number> {
  const { workload_id, series_no, ordinal } = await pointOf(trx, task, told.pointId);
  const { rules, at } = await scannedBy(trx, now, task);
  await trx('point_scan').where({ point_id: told.pointId }).delete();
  await trx('scan_find').where({ point_id: told.pointId }).delete();
  await trx('point_scan').insert({
    point_id: told.pointId,
    workload_id,
    rules,
    rules_at: at,
    scanned_at: now,
    items: told.items,
    bytes: told.bytes,
    bytes_read: told.read,
    not_looked: told.notLooked,
    suspect: told.suspect,
    infected: told.infected,
    sensitive_too: told.sensitive,
    sums_too: told.summed,
    told_all: told.toldAll,
  });
  const finds = told.finds.map(({ path, within, rule, about, grade, size, sum }) => ({
    point_id: told.pointId,
    workload_id,
    path: Buffer.from(path, 'latin1'),
    inner_path: within,
    rule,
    about,
    grade,
    size,
    sum,
  }));
  await insertAll(trx, 'scan_find', finds);
  const newer = await trx('point as p')
    .join('point_scan as s', 's.point_id', 'p.id')
    .where({ 'p.series_no': series_no })
    .where('p.ordinal', '>', ordinal)
    .first<object | undefined>('p.id');
  if (newer) return workload_id;
  // the next scan goes on from the newest alone
  await trx('scan_note').where({ series_no }).delete();
  const notes = told.notes.map(({ path, why }) => ({ series_no, point_id: told.pointId, path: Buffer.from(path, 'latin1'), why }));
  await insertAll(trx, 'scan_note', notes);
  return workload_id;
}

async function insertAll(trx: Knex.Transaction, table: string, rows: readonly object[]): Promise<void> {
  for (let from = 0; from < rows.length; from += rowsAtOnce) await trx(table).insert(rows.slice(from, from + rowsAtOnce));
}

/** The set of rules that a running scan was given: that in force, unless it changed since the scan began. */
async function scannedBy(trx: Knex.Transaction, now: number, task: RunningTask): Promise<{ rules: string; at: number }> {
  const set = await ruleSetNow(trx, now, (await scanSettings(trx)).scanner);
  return set.at <= task.started_at ? { rules: set.id, at: set.at } : { rules: '', at: task.started_at };
}

/** Keeps what is told of the files of a point. Points come in the order in which they were taken. */
export async function keepSeen(trx: Knex.Transaction, task: RunningTask, told: z.infer<typeof FilesSeen>): Promise<void> {
  const point = await pointOf(trx, task, told.pointId);
  if (told.tells.sensitive) await keepSensitive(trx, point, told);
  if (told.tells.sums) await keepSums(trx, point, told);
}

/** Keeps in which files there is sensitive data: what stood there before ends with it. */
async function keepSensitive(
  trx: Knex.Transaction,
  { workload_id, series_no, moment }: Scanned,
  told: z.infer<typeof FilesSeen>,
): Promise<void> {
  const open = () => trx('sensitive_file').where({ series_no, to_at: null }).where('from_at', '<', moment);
  if (told.whole) await open().update({ to_at: moment });
  const ended = [...told.gone, ...told.files.map((f) => f.path)];
  for (let from = 0; from < ended.length; from += rowsAtOnce)
    await open()
      .whereIn('path_hash', ended.slice(from, from + rowsAtOnce).map(hashOf))
      .update({ to_at: moment });
  for (const above of told.goneBelow) {
    const below = Buffer.from(`${above}/`, 'latin1');
    await open().whereRaw('LEFT(path, ?) = ?', [below.length, below]).update({ to_at: moment });
  }
  const rows = told.files.flatMap(({ path, owner, mode, counts }) =>
    counts.map(({ pattern, count, sample }) => ({
      series_no,
      workload_id,
      path_hash: hashOf(path),
      path: Buffer.from(path, 'latin1'),
      pattern,
      findings: count,
      sample,
      owner,
      mode,
      from_at: moment,
      to_at: null,
    })),
  );
  const fresh = await goingOn(trx, series_no, moment, rows);
  for (let from = 0; from < fresh.length; from += rowsAtOnce)
    await trx('sensitive_file')
      .insert(fresh.slice(from, from + rowsAtOnce))
      .onConflict()
      .merge(['findings', 'sample', 'owner', 'mode']);
}

interface Standing {
  readonly path_hash: Buffer;
  readonly pattern: string;
  readonly findings: number;
}

/** What stands there as it did until this point goes on; gives the others. */
async function goingOn<R extends Standing>(trx: Knex.Transaction, series: number, moment: number, rows: readonly R[]): Promise<R[]> {
  const keyOf = (r: Standing) => `${r.path_hash.toString('hex')} ${r.pattern} ${r.findings}`;
  const ended = new Map<string, number>();
  for (let from = 0; from < rows.length; from += rowsAtOnce) {
    const found = await trx('sensitive_file')
      .where({ series_no: series, to_at: moment })
      .whereIn(
        'path_hash',
        rows.slice(from, from + rowsAtOnce).map((r) => r.path_hash),
      )
      .select<(Standing & { no: number })[]>('no', 'path_hash', 'pattern', 'findings');
    for (const row of found) ended.set(keyOf(row), row.no);
  }
  const known = rows.flatMap((r) => ended.get(keyOf(r)) ?? []);
  for (let from = 0; from < known.length; from += rowsAtOnce)
    await trx('sensitive_file')
      .whereIn('no', known.slice(from, from + rowsAtOnce))
      .update({ to_at: null });
  return rows.filter((r) => !ended.has(keyOf(r)));
}
