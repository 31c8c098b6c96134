import type { CopyRule, PointCopy } from '@lithodex/contract';
import type { Keep, KeepDecision } from '@lithodex/core';
import type { Knex } from 'knex';
import { fromJsonOrNull } from '../../base/db/json';
import { decide, type Keeper, type LockedPoint, type PointRow, type SeriesRow } from './points';

/** A point on a target. */
export interface CopyRow {
  readonly point_id: string;
  readonly target_id: string;
  /** `leaving`: out of the catalog, while nobody was asked yet to remove its root. */
  readonly state: 'present' | 'leaving' | 'gone';
  readonly made_at: number;
  readonly stored: number;
  /** How long copies there were kept when this one was made; null on the target the series writes to. */
  readonly keep_rule: unknown;
  readonly locked_until: number | null;
  /** Until when it is promised to be kept, ms; null where nothing was written down yet. */
  readonly promised_until: number | null;
}

/** How long points are kept by a rule: where they are first stored, and on the targets they are copied to. */
export interface RuleKeep {
  /** null: no policy says. */
  readonly policyId: number | null;
  readonly ruleNo: number;
  readonly keep: Keep;
  /** The target `keep` is meant for beside the one the series began on; null for none. */
  readonly targetId: string | null;
  readonly copies: readonly CopyRule[];
  /** Whose calendar long-term points are told by. */
  readonly zone: string;
  /** Its policy has ended. */
  readonly ended: boolean;
}

/** By what a point of a series is kept: the same object for all points of a rule. */
export type SeriesKeep = (point: PointRow) => RuleKeep;

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

/** Tells how long a rule keeps the copies of a series' points on a target; undefined where it says nothing of that target and never did: they stay until the target is given up. */
export function keepsOnTargets(
  series: SeriesRow,
  points: readonly PointRow[],
  copies: ReadonlyMap<string, readonly CopyRow[]>,
  kept: SeriesKeep,
): (target: string, rule: RuleKeep) => Keep | undefined {
  /** What copies were made under, by target and rule: it goes on where the rule says nothing of the target any more. */
  const lastSaid = new Map<string, Map<RuleKeep, Keep>>();
  for (const point of points)
    for (const copy of copies.get(point.id) ?? []) {
      const rule = fromJsonOrNull<Keep>(copy.keep_rule);
      if (rule) lastSaid.set(copy.target_id, (lastSaid.get(copy.target_id) ?? new Map<RuleKeep, Keep>()).set(kept(point), rule));
    }
  return (target, rule) =>
    target === series.target_id || target === rule.targetId
      ? rule.keep
      : (rule.copies.find((c) => c.targetId === target)?.keep ?? lastSaid.get(target)?.get(rule));
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
  const keepAt = keepsOnTargets(series, points, copies, kept);
  const here = new Map<string, LockedPoint[]>();
  for (const point of points)
    for (const { target_id, locked_until, promised_until } of copies.get(point.id) ?? [])
      here.set(target_id, [...(here.get(target_id) ?? []), { ...point, locked_until, promised_until }]);
  return new Map([...here].map(([target, own]) => [target, decide(own, keepersOn(target), now, frozen)]));

  function keepersOn(target: string): (point: PointRow) => Keeper {
    const keepers = new Map<RuleKeep, Keeper>();
    return (point) => {
      const rule = kept(point);
      const keeper = keepers.get(rule) ?? { keep: keepAt(target, rule) ?? { by: 'hand' }, zone: rule.zone, ended: rule.ended };
      keepers.set(rule, keeper);
      return keeper;
    };
  }
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
