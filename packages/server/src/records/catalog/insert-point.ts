import type { PointTotals } from '@lithodex/contract';
import type { Unusual } from '@lithodex/core';
import type { Knex } from 'knex';
import type { PointRow, SeriesRow } from './points';

/** What a point says of itself, whoever took it. */
export type PointFacts = Pick<
  PointTotals,
  'moment' | 'kind' | 'items' | 'files' | 'bytes' | 'read' | 'fresh' | 'stored' | 'warnings' | 'machine' | 'facts'
> &
  Partial<Pick<PointTotals, 'namesInside'>>;

/** What the server has found of a point, and where it belongs. */
export interface PointPlace extends Pick<PointRow, 'id' | 'run_id' | 'ordinal' | 'builds_on' | 'policy_id'> {
  readonly changes: Pick<PointTotals['changes'], 'added' | 'changed' | 'removed'>;
  /** All that it changed in numbers, where it is judged by them. */
  readonly counts?: PointTotals['changes'];
  readonly complete: boolean;
  readonly judged: Pick<Unusual, 'share' | 'score' | 'reasons' | 'suspect'> & { readonly signs?: Unusual['signs'] };
  readonly ruleNo?: number;
  readonly keepOwn?: unknown;
  /** Taken besides the schedule. */
  readonly extra?: boolean;
}

/** Makes a point of a series visible. */
export async function insertPoint(trx: Knex.Transaction, series: SeriesRow, point: PointFacts, place: PointPlace): Promise<void> {
  const { changes, counts, complete, judged, ruleNo, keepOwn, extra = false, ...row } = place;
  await trx('point').insert({
    ...row,
    series_no: series.no,
    workload_id: series.workload_id,
    ...(ruleNo !== undefined && { rule_no: ruleNo }),
    state: 'visible',
    moment: point.moment,
    kind: point.kind,
    items: point.items,
    files: point.files,
    bytes: point.bytes,
    read_bytes: point.read,
    fresh: point.fresh,
    stored: point.stored,
    warnings: point.warnings,
    machine: point.machine && JSON.stringify(point.machine),
    facts: point.facts && JSON.stringify(point.facts),
    names_inside: point.namesInside ?? 0,
    added: changes.added,
    changed: changes.changed,
    removed: changes.removed,
    complete,
    share: judged.share,
    unusual: judged.score,
    reasons: JSON.stringify(judged.reasons),
    suspect: judged.suspect,
    counts: counts ? JSON.stringify(counts) : null,
    signs: judged.signs ? JSON.stringify(judged.signs) : null,
    keep_own: keepOwn ? JSON.stringify(keepOwn) : null,
    extra,
  });
}
