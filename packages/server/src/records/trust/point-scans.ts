import { verdictOf, type Verdict } from '@lithodex/core';
import type { Knex } from 'knex';

/** What a scan said of a point, as it is kept. */
export interface PointScanColumns {
  readonly point_id: string;
  readonly rules: string;
  readonly rules_at: number;
  readonly scanned_at: number;
  readonly items: number;
  readonly bytes: number;
  readonly bytes_read: number;
  readonly not_looked: number;
  readonly suspect: number;
  readonly infected: number;
}

/** A living point that was or can be scanned, with what is known of it. */
export interface JudgedPoint {
  readonly id: string;
  readonly workload_id: number;
  readonly moment: number;
  readonly verdict: Verdict;
  readonly scan: PointScanColumns | undefined;
}

/** Living points with their verdicts, oldest first; those of logs hold nothing that could be looked into. `newest`: the set of rules in force. */
export async function judgedPoints(db: Knex, newest: string, which: (q: Knex.QueryBuilder) => void): Promise<JudgedPoint[]> {
  type Row = PointScanColumns & { id: string; workload_id: number; moment: number };
  const rows = await db('point as p')
    .leftJoin('point_scan as s', 's.point_id', 'p.id')
    .where({ 'p.state': 'visible' })
    .whereNot({ 'p.kind': 'log' })
    .modify(which)
    .orderBy(['p.moment', 'p.ordinal'])
    .select<Row[]>('s.*', 'p.id', 'p.workload_id', 'p.moment');
  return rows.map((row) => {
    const scan = (row.point_id as string | null) === null ? undefined : row;
    const { id, workload_id, moment } = row;
    return { id, workload_id, moment, scan, verdict: verdictOf(scan && { ...scan, notLooked: scan.not_looked }, newest) };
  });
}
