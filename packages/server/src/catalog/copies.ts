import type { CopyRule, PointCopy } from '@lithodex/contract';
import type { Keep, KeepDecision } from '@lithodex/core';
import type { Knex } from 'knex';
import { fromJsonOrNull } from '../db/json';
import { decide, type LockedPoint, type PointRow, type SeriesRow } from './points';

/** A point on a target. */
export interface CopyRow {
  readonly point_id: string;
  readonly target_id: string;
  readonly state: 'present' | 'gone';
  readonly made_at: number;
  readonly stored: number;
  /** How long copies there were kept when this one was made; null on the target the series writes to. */
  readonly keep_rule: unknown;
  readonly locked_until: number | null;
}

/** How long the points of a series are kept: where they are first stored, and on the targets they are copied to. */
export interface SeriesKeep {
  readonly keep: Keep;
  /** The target `keep` is meant for beside the one the series began on; null for none. */
  readonly targetId: string | null;
  readonly copies: readonly CopyRule[];
  /** Whose calendar long-term points are told by. */
  readonly zone: string;
}

const idsAtOnce = 5000;

/** Where points stand now, by point. */
export async function presentCopies(db: Knex, pointIds: readonly string[]): Promise<Map<string, CopyRow[]>> {
  const byPoint = new Map<string, CopyRow[]>();
  for (let from = 0; from < pointIds.length; from += idsAtOnce) {
    const rows = await db('copy')
      .whereIn('point_id', pointIds.slice(from, from + idsAtOnce))
      .where({ state: 'present' })
      .orderBy('made_at')
      .select<CopyRow[]>();
    for (const row of rows) byPoint.set(row.point_id, [...(byPoint.get(row.point_id) ?? []), row]);
  }
  return byPoint;
}

/** What retention says of each copy of the living points of a series: by target, then by point. */
export function decideCopies(
  series: SeriesRow,
  points: readonly PointRow[],
  copies: ReadonlyMap<string, readonly CopyRow[]>,
  kept: SeriesKeep,
  now: number,
  frozen: boolean,
): Map<string, Map<string, KeepDecision>> {
  const here = new Map<string, LockedPoint[]>();
  const lastRule = new Map<string, Keep>();
  for (const point of points)
    for (const copy of copies.get(point.id) ?? []) {
      here.set(copy.target_id, [...(here.get(copy.target_id) ?? []), { ...point, locked_until: copy.locked_until }]);
      const rule = fromJsonOrNull<Keep>(copy.keep_rule);
      if (rule) lastRule.set(copy.target_id, rule);
    }
  const keepAt = (target: string): Keep =>
    target === series.target_id || target === kept.targetId
      ? kept.keep
      : (kept.copies.find((c) => c.targetId === target)?.keep ?? lastRule.get(target) ?? { by: 'hand' });
  return new Map([...here].map(([target, own]) => [target, decide(own, keepAt(target), now, frozen, kept.zone)]));
}

/** The copies of a point as the API gives them: the target of its series first. */
export function toCopies(
  series: SeriesRow,
  point: PointRow,
  copies: readonly CopyRow[],
  decisions: ReadonlyMap<string, ReadonlyMap<string, KeepDecision>>,
  targets: ReadonlyMap<string, string>,
): PointCopy[] {
  const first = (c: CopyRow) => (c.target_id === series.target_id ? 0 : 1);
  return [...copies]
    .sort((a, b) => first(a) - first(b))
    .map((c) => {
      const decision = decisions.get(c.target_id)?.get(point.id);
      return {
        targetId: c.target_id,
        target: targets.get(c.target_id) ?? '',
        madeAt: c.made_at,
        lockedUntil: c.locked_until,
        keepUntil: decision?.until ?? null,
        keepWhy: decision?.why ?? '',
      };
    });
}
