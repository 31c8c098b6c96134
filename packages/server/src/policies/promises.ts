import { Calendar, countOf, Ends, nextRuns, runsPerDay } from '@lithodex/core';
import type { PolicyBody, PolicyRule } from '@lithodex/contract';
import { decideCopies, presentCopies } from '../catalog/copies';
import { livingPoints, type PointRow, type SeriesRow } from '../catalog/points';
import type { Deps } from '../deps';
import { KeepRules } from '../runs/expiry';
import { policiesInForce, ruleOf } from './matching';
import { policyOf } from './put-in-force';
import { timetablesOf, type PolicyTimetable } from './timetable';

const hourMs = 3_600_000;
/** Runs to come that are looked at to tell when a rule by points lets go. */
const daysAhead = 400;

/** How a rule keeps points on one of its targets. */
function keepOn(rule: PolicyRule, targetId: string) {
  return targetId === rule.targetId ? rule.keep : rule.copies.find((c) => c.targetId === targetId)?.keep;
}

/** Tells until when points are kept by a policy, as its runs come. What is to come is worked out once for each rule and target, however many series are asked for. */
class Promised {
  private readonly known = new Map<string, Ends | undefined>();

  constructor(
    private readonly body: PolicyBody,
    private readonly timetables: readonly PolicyTimetable[],
    private readonly now: number,
  ) {}

  private endsOn(rule: PolicyRule, targetId: string): Ends | undefined {
    const { body, now } = this;
    const keep = keepOn(rule, targetId);
    if (!keep) return undefined;
    const timetable = this.timetables.find((t) => t.rule === rule.no)!;
    const future = nextRuns(timetable, now, Math.ceil(runsPerDay(timetable.schedule) * daysAhead));
    const calendar = new Calendar(body.zone, keep.by === 'hand' ? 1 : (keep.longTerm?.day ?? 1));
    return new Ends({ keep, lockDays: 0, zone: body.zone }, future, calendar);
  }

  /** The ends of points of the policy in a series (oldest first), by id; those of which the policy says nothing on the target are left out, as what was promised then stays. */
  ends(series: SeriesRow, targetId: string, points: readonly PointRow[]): Map<string, number> {
    const byRule = new Map<PolicyRule, PointRow[]>();
    for (const p of points) {
      const rule = ruleOf(this.body, p.rule_no, series.target_id);
      byRule.set(rule, [...(byRule.get(rule) ?? []), p]);
    }
    const told = new Map<string, number>();
    for (const [rule, own] of byRule) {
      const key = `${rule.no} ${targetId}`;
      if (!this.known.has(key)) this.known.set(key, this.endsOn(rule, targetId));
      const ends = this.known.get(key);
      if (!ends) continue;
      const size = own.length + ends.future.length;
      const row = new Float64Array(size);
      const moments = own.map((p) => p.moment);
      ends.of(moments, new Float64Array(size), row);
      own.forEach((p, i) => told.set(p.id, row[i]!));
    }
    return told;
  }
}

/**
 * What a changed policy would take from the points that stand: those that would go at once, and those that would be kept for less long than the policy in force promises. '' when
 * it breaks no promise.
 */
export async function promisesBroken(deps: Deps, id: number, body: PolicyBody): Promise<string> {
  const { body: before, timetables } = await policyOf(deps, id);
  const inForce = await policiesInForce(deps.db);
  const now = deps.clock.now();
  const made = deps.db('point').where({ policy_id: id, state: 'visible' });
  const serieses = await deps.db('series').whereIn('no', made.clone().distinct('series_no')).select<SeriesRow[]>();
  const [promised, promises] = [new Promised(before, timetables, now), new Promised(body, timetablesOf(body, inForce), now)];
  const [keptBefore, keptThen] = [await KeepRules.read(deps.db, { id, body: before }), await KeepRules.read(deps.db, { id, body })];
  let [atOnce, earlier] = [0, 0];
  for (const series of serieses) {
    const points = await livingPoints(deps.db, series.no);
    const copies = await presentCopies(
      deps.db,
      points.map((p) => p.id),
    );
    const frozen = (await deps.db('workload').where({ id: series.workload_id }).first<{ frozen: 0 | 1 }>('frozen')).frozen === 1;
    const decide = (rules: KeepRules) => decideCopies(series, points, copies, rules.of(series, points), now, frozen);
    const was = decide(keptBefore);
    for (const [target, decisions] of decide(keptThen)) {
      const own = points.filter((p) => decisions.has(p.id) && p.policy_id === id && p.suspect === 0 && p.held === 0 && p.keep_own === null);
      const [old, next] = [promised.ends(series, target, own), promises.ends(series, target, own)];
      for (const point of own) {
        const decision = decisions.get(point.id)!;
        const lock = copies.get(point.id)?.find((c) => c.target_id === target)?.locked_until ?? 0;
        if (was.get(target)?.get(point.id)?.expires) continue;
        const [before, after] = [old.get(point.id), next.get(point.id)];
        if (decision.expires) atOnce++;
        else if (before !== undefined && after !== undefined && Math.max(after, lock) < Math.max(before, lock) - hourMs) earlier++;
      }
    }
  }
  const parts = [
    atOnce ? `${countOf(atOnce, 'copy', 'copies')} of points deleted at once` : '',
    earlier ? `${countOf(earlier, 'copy', 'copies')} kept for less long than promised` : '',
  ];
  return parts.filter(Boolean).join(', ');
}
