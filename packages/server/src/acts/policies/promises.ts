import { countOf, nextRuns, promisedEnds } from '@lithodex/core';
import type { PolicyBody } from '@lithodex/contract';
import type { Knex } from 'knex';
import { decideCopies, keepsOnTargets, presentCopies, type CopyRow, type RuleKeep, type SeriesKeep } from '../../records/catalog/copies';
import { forever, keptPoints, type PointRow, type SeriesRow } from '../../records/catalog/points';
import { fromJsonOrNull } from '../../base/db/json';
import { KeepRules, type ChangedPolicy } from '../runs/expiry';
import { policiesInForce, type PolicyRow } from '../../records/policies/matching';
import { timetablesOf } from '../../records/policies/timetable';

const hourMs = 3_600_000;
const dayMs = 86_400_000;
const written = (end: number) => Math.min(forever, Math.round(end));

/** What an act would take from what was promised, in copies of points. */
export interface Loss {
  /** That go at once. */
  readonly atOnce: number;
  /** That are kept for less long. */
  readonly earlier: number;
}

/** A loss in words; '' for none. */
export function lossText({ atOnce, earlier }: Loss): string {
  const parts = [
    atOnce ? `${countOf(atOnce, 'copy', 'copies')} of points deleted at once` : '',
    earlier ? `${countOf(earlier, 'copy', 'copies')} kept for less long than promised` : '',
  ];
  return parts.filter(Boolean).join(', ');
}

/** Tells the ends that rules promise. What is to come of a rule is worked out once. */
class Promised {
  private readonly runs = new Map<string, number[]>();

  constructor(
    private readonly policies: readonly PolicyRow[],
    private readonly changed: ChangedPolicy | undefined,
    private readonly now: number,
  ) {}

  private next({ policyId, ruleNo }: RuleKeep, count: number): number[] {
    const key = `${policyId}/${ruleNo}`;
    const known = this.runs.get(key);
    if (known && known.length >= count) return known.slice(0, count);
    const policy = this.policies.find((p) => p.id === policyId);
    const timetables = policy && this.changed?.id === policyId ? timetablesOf(this.changed.body, this.policies) : policy?.timetables;
    const timetable = timetables?.find((t) => t.rule === ruleNo);
    // what is taken without a pause comes at once
    const runs = !timetable
      ? []
      : timetable.schedule.every === 'moment'
        ? Array<number>(count).fill(this.now)
        : nextRuns(timetable, this.now, count);
    this.runs.set(key, runs);
    return runs;
  }

  /** The ends of the copies of a series' points, by target and point. What no rule in force says anything of is left out. */
  ends(series: SeriesRow, points: readonly PointRow[], copies: ReadonlyMap<string, readonly CopyRow[]>, kept: SeriesKeep) {
    const keepAt = keepsOnTargets(series, points, copies, kept);
    const groups = new Map<RuleKeep, PointRow[]>();
    const ends = new Map<string, Map<string, number>>();
    const tell = (target: string, point: PointRow, end: number) => {
      ends.set(target, (ends.get(target) ?? new Map<string, number>()).set(point.id, end));
    };
    for (const point of points) {
      const rule = kept(point);
      const own = ownEnd(point);
      if (own !== undefined) for (const { target_id } of copies.get(point.id) ?? []) tell(target_id, point, own);
      // what is put together for the instant of another point is promised nothing by the rule of both
      else if (!rule.ended && (point.kind !== 'synthetic' || rule.policyId === null))
        groups.set(rule, [...(groups.get(rule) ?? []), point]);
    }
    for (const [rule, its] of groups) {
      const targets = new Set(its.flatMap((p) => (copies.get(p.id) ?? []).map((c) => c.target_id)));
      for (const target of targets) {
        const here = its.filter((p) => copies.get(p.id)?.some((c) => c.target_id === target));
        const row = here.map((p) => ({ moment: p.moment, extra: p.extra === 1 }));
        const keep = keepAt(target, rule) ?? (rule.policyId === null ? rule.keep : undefined);
        if (!keep) continue;
        const told = promisedEnds(row, keep, rule.zone, (count) => this.next(rule, count));
        here.forEach((p, i) => {
          tell(target, p, told[i]!);
        });
      }
    }
    return ends;
  }
}

/** End of a point with a keep of its own; undefined where its rule says. */
function ownEnd(point: PointRow): number | undefined {
  const own = fromJsonOrNull<{ by: 'days' | 'points' | 'hand'; days?: number }>(point.keep_own);
  if (!own) return undefined;
  return own.by === 'days' ? point.moment + (own.days ?? 0) * dayMs : own.by === 'hand' ? Infinity : 0;
}

async function setPromises(trx: Knex.Transaction, wanted: readonly { copy: CopyRow; end: number }[]): Promise<void> {
  const groups = new Map<string, string[]>();
  for (const { copy, end } of wanted) {
    const key = `${copy.target_id} ${written(end)}`;
    groups.set(key, [...(groups.get(key) ?? []), copy.point_id]);
  }
  for (const [key, ids] of groups) {
    const [target_id, end] = key.split(' ') as [string, string];
    await trx('copy')
      .where({ target_id })
      .whereIn('point_id', ids)
      .update({ promised_until: Number(end) });
  }
}

/**
 * Writes down what the rules in force promise to the copies of a series, where that is more than was promised: from then on nothing lets a copy go before, but two people. To be called
 * whenever a point or a copy comes to be, or a rule changes.
 */
export async function recordPromises(trx: Knex.Transaction, now: number, seriesNo: number): Promise<void> {
  const series = await trx('series').where({ no: seriesNo }).first<SeriesRow | undefined>();
  if (!series) return;
  const points = await keptPoints(trx, seriesNo);
  const copies = await presentCopies(
    trx,
    points.map((p) => p.id),
  );
  const rules = await KeepRules.read(trx);
  const ends = new Promised(await policiesInForce(trx), undefined, now).ends(series, points, copies, rules.of(series, points));
  const raised = [...copies.values()].flat().flatMap((copy) => {
    const end = ends.get(copy.target_id)?.get(copy.point_id);
    return end !== undefined && written(end) > (copy.promised_until ?? -1) ? [{ copy, end }] : [];
  });
  await setPromises(trx, raised);
}

const allRecorded = 'promises-recorded';

/** Writes down, once, what was promised before promises were written down. Begun again where it was broken off. */
export async function recordMissingPromises(db: Knex, now: number): Promise<void> {
  if (await db('setting').where({ name: allRecorded }).first('name')) return;
  const rows = await db('copy as c')
    .join('point as p', 'p.id', 'c.point_id')
    .where({ 'c.state': 'present', 'p.state': 'visible' })
    .whereNull('c.promised_until')
    .distinct('p.series_no')
    .select<{ series_no: number }[]>('p.series_no');
  for (const { series_no } of rows) await db.transaction((trx) => recordPromises(trx, now, series_no));
  await db('setting').insert({ name: allRecorded, value: 'true' }).onConflict().ignore();
}

/** A copy that a changed policy would keep for less long than promised. */
export interface Broken {
  readonly copy: CopyRow;
  readonly atOnce: boolean;
  /** When it would go by the policy, ms. */
  readonly end: number;
}

/** The copies that a changed policy would keep for less long than promised. */
export async function brokenBy(db: Knex, now: number, id: number, body: PolicyBody): Promise<Broken[]> {
  const inForce = await policiesInForce(db);
  const changed = { id, body };
  const [rulesNow, rulesThen] = [await KeepRules.read(db), await KeepRules.read(db, changed)];
  const [promisedNow, promisedThen] = [new Promised(inForce, undefined, now), new Promised(inForce, changed, now)];
  const governed = db('point')
    .where({ state: 'visible' })
    .where((q) => void q.where({ policy_id: id }).orWhereNull('policy_id'))
    .distinct('series_no');
  const broken: Broken[] = [];
  for (const series of await db('series').whereIn('no', governed).select<SeriesRow[]>()) {
    const points = await keptPoints(db, series.no);
    const copies = await presentCopies(
      db,
      points.map((p) => p.id),
    );
    const { frozen } = await db('workload').where({ id: series.workload_id }).first<{ frozen: 0 | 1 }>('frozen');
    const [keptNow, keptThen] = [rulesNow.of(series, points), rulesThen.of(series, points)];
    const unpromised = new Map([...copies].map(([point, its]) => [point, its.map((c) => ({ ...c, promised_until: null }))]));
    const was = decideCopies(series, points, unpromised, keptNow, now, frozen === 1);
    const will = decideCopies(series, points, unpromised, keptThen, now, frozen === 1);
    const [endsNow, endsThen] = [promisedNow.ends(series, points, copies, keptNow), promisedThen.ends(series, points, copies, keptThen)];
    for (const point of points.filter((p) => keptNow(p).policyId === id && !p.suspect && !p.held && p.keep_own === null))
      for (const copy of copies.get(point.id) ?? []) {
        const at = <T>(by: ReadonlyMap<string, ReadonlyMap<string, T>>) => by.get(copy.target_id)?.get(point.id);
        const [before, end] = [at(endsNow) ?? 0, at(endsThen) ?? 0];
        const atOnce = at(will)?.expires === true && at(was)?.expires !== true;
        const promised = Math.max(before, copy.promised_until ?? 0, copy.locked_until ?? 0);
        const earlier = end < before - hourMs && Math.max(end, copy.locked_until ?? 0) < promised - hourMs && promised > now;
        if (atOnce || earlier) broken.push({ copy, atOnce, end });
      }
  }
  return broken;
}

/** Copies by point as they would be once two people have agreed: with the promises they keep. */
export function withoutPromises(copies: ReadonlyMap<string, readonly CopyRow[]>, broken: readonly Broken[]): Map<string, CopyRow[]> {
  const ends = new Map(broken.map(({ copy, end }) => [`${copy.point_id} ${copy.target_id}`, written(end)]));
  return new Map(
    [...copies].map(([point, its]) => [
      point,
      its.map((c) => ({ ...c, promised_until: ends.get(`${c.point_id} ${c.target_id}`) ?? c.promised_until })),
    ]),
  );
}

/**
 * What a changed policy would take from the points that stand, those that were taken over among them: copies that would go at once, and copies that would be kept for less long than the policy in
 * force promises.
 */
export async function lossBy(db: Knex, now: number, id: number, body: PolicyBody): Promise<Loss> {
  return lossOf(await brokenBy(db, now, id, body));
}

export function lossOf(broken: readonly Broken[]): Loss {
  const atOnce = broken.filter((b) => b.atOnce).length;
  return { atOnce, earlier: broken.length - atOnce };
}

/** Takes back, as two people agreed to, what a changed policy does not promise any more. To be called before it is put in force. */
export async function takeBackPromises(trx: Knex.Transaction, now: number, id: number, body: PolicyBody): Promise<void> {
  await setPromises(trx, await brokenBy(trx, now, id, body));
}

/** Takes back what was promised to a point, as two people agreed to: from now on its rule says. */
export async function takeBackPromise(trx: Knex.Transaction, now: number, pointId: string): Promise<void> {
  const { series_no } = await trx('point').where({ id: pointId }).first<{ series_no: number }>('series_no');
  await trx('copy').where({ point_id: pointId }).update({ promised_until: 0 });
  await recordPromises(trx, now, series_no);
}

/** Gives what is promised to copies on one target to the copies of the same points that stay when it is given up: those on `to`, or, where there is none, those that stand elsewhere. */
export async function handOnPromises(trx: Knex.Transaction, from: string, to: string): Promise<void> {
  await trx.raw(
    `UPDATE copy o JOIN copy c ON c.point_id = o.point_id AND c.target_id = ? AND c.state = 'present'
     LEFT JOIN copy t ON t.point_id = o.point_id AND t.target_id = ? AND t.state = 'present'
     SET o.promised_until = GREATEST(COALESCE(o.promised_until, 0), COALESCE(c.promised_until, 0))
     WHERE o.state = 'present' AND o.target_id <> ? AND (t.point_id IS NULL OR o.target_id = ?)`,
    [from, to, from, to],
  );
}
