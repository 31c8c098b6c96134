import { median } from '@lithodex/core';
import type { Knex } from 'knex';
import { tooLittleToMeasure } from './run-rows';

type Measured = { ms: number; bytes: number };
const rateOf = (rows: readonly Measured[]) => Math.round(median(rows.map((r) => (r.bytes / r.ms) * 1000)));

/** Bytes a second at which a target was read lately, when it was verified; null where it never was. */
export async function readRate(db: Knex, targetId: string): Promise<number | null> {
  const rows = await db('task')
    .where({ type: 'verify' })
    .whereRaw("JSON_VALUE(work, '$.targetId') = ?", [targetId])
    .where('measured_ms', '>', 0)
    .where('measured_bytes', '>', tooLittleToMeasure)
    .orderBy('ended_at', 'desc')
    .limit(9)
    .select<Measured[]>('measured_ms as ms', 'measured_bytes as bytes');
  return rows.length ? rateOf(rows) : null;
}

/** Bytes a second: the median of recent restores; of drills, or of reads of sources, while nothing was restored yet. */
export async function measuredRate(db: Knex): Promise<{ rate: number | null; from: string }> {
  for (const [type, from] of [
    ['restore', 'recent restores'],
    ['drill', 'recent drills'],
    ['backup', 'recent backups'],
  ] as const) {
    const rows = await db('task')
      .where({ type })
      .where('measured_ms', '>', 0)
      .where('measured_bytes', '>', tooLittleToMeasure)
      .orderBy('ended_at', 'desc')
      .limit(25)
      .select<Measured[]>('measured_ms as ms', 'measured_bytes as bytes');
    if (rows.length) return { rate: rateOf(rows), from };
  }
  return { rate: null, from: 'nothing was measured yet' };
}
