import type { PolicyBody, PolicyMeasures, PriceTable } from '@lithodex/contract';
import { fromJsonOrNull } from '../../base/db/json';
import type { Deps } from '../../acts/deps';
import type { TargetRow } from '../../records/targets/target-rows';
import { policiesInForce } from '../../records/policies/matching';
import { matchesShown } from '../../acts/estate/matching-shown';
import { timetablesOf } from '../../records/policies/timetable';

const dayMs = 86_400_000;
/** What a first full takes of the size of its data where nothing was measured. */
const usualReduction = 0.5;

type Measures = PolicyMeasures['targets'][number];
type Workload = Measures['workloads'][number];

interface Row {
  readonly workload_id: number;
  readonly moment: number;
  readonly bytes: number;
  readonly stored: number;
  readonly first_stored: number;
  readonly builds_on: string | null;
  readonly here: 0 | 1;
  readonly policy_id: number | null;
  readonly rule_no: number;
}

/**
 * What the simulation of a draft of policy `id` (null for a new one) starts from: for each target it uses, the points of each workload it matches and the rates measured. Points of others are
 * told as those of its first rule there, as they stand in the same row.
 */
export async function measuresOf(deps: Deps, id: number | null, body: PolicyBody): Promise<PolicyMeasures> {
  const ids = (await matchesShown(deps, body)).map((m) => m.id);
  const targets: Measures[] = [];
  const used = body.rules.flatMap((r) => [r.targetId, ...r.copies.map((c) => c.targetId)]);
  for (const targetId of new Set(used)) {
    const target = await deps.db('target').where({ id: targetId }).first<TargetRow | undefined>();
    if (!target) continue;
    const usedBy = body.rules.filter((r) => r.targetId === targetId || r.copies.some((c) => c.targetId === targetId)).map((r) => r.no);
    const ruleOfPoint = (p: Row) => (p.policy_id === id && usedBy.includes(p.rule_no) ? p.rule_no : usedBy[0]!);
    const workloads = await workloadsOn(deps, targetId, ids, ruleOfPoint);
    targets.push({
      targetId,
      name: target.name,
      used: target.used,
      free: target.free,
      prices: fromJsonOrNull<PriceTable>(target.prices),
      usedByPolicy: workloads.reduce((sum, w) => sum + (w.moments.length ? w.stored : 0), 0),
      workloads,
    });
  }
  const timetables = timetablesOf(body, await policiesInForce(deps.db));
  return { now: deps.clock.now(), schedules: timetables.map(({ rule, schedule }) => ({ rule, schedule })), targets };
}

async function workloadsOn(deps: Deps, targetId: string, ids: readonly number[], ruleOfPoint: (p: Row) => number): Promise<Workload[]> {
  const rows = await deps
    .db('point as p')
    .leftJoin('copy as c', function () {
      this.on('c.point_id', 'p.id').andOnVal('c.target_id', targetId).andOnVal('c.state', 'present');
    })
    .whereIn('p.workload_id', ids)
    .where({ 'p.state': 'visible', 'p.suspect': false })
    .orderBy('p.moment')
    .select<Row[]>(
      'p.workload_id',
      'p.moment',
      'p.bytes',
      'p.stored as first_stored',
      'p.builds_on',
      'p.policy_id',
      'p.rule_no',
      deps.db.raw('COALESCE(c.stored, 0) AS stored, c.point_id IS NOT NULL AS here'),
    );
  const byWorkload = new Map<number, Row[]>();
  for (const row of rows) byWorkload.set(row.workload_id, [...(byWorkload.get(row.workload_id) ?? []), row]);
  return ids.map((id) => measured(id, byWorkload.get(id) ?? [], ruleOfPoint));
}

/** Rates of a workload: what its points wrote after the first, and how its size went, both over the time they span. */
function measured(id: number, points: readonly Row[], ruleOfPoint: (p: Row) => number): Workload {
  const byRule = new Map<number, number[]>();
  for (const p of points) if (p.here) byRule.set(ruleOfPoint(p), [...(byRule.get(ruleOfPoint(p)) ?? []), p.moment]);
  const moments = [...byRule].map(([rule, at]) => ({ rule, at }));
  const [first, last] = [points[0], points.at(-1)];
  if (!first || !last) return { id, moments, stored: 0, newPerDay: 0, growthPerDay: 0, measured: false };
  const full = points.find((p) => p.builds_on === null && p.first_stored > 0);
  const reduction = full ? Math.min(1, full.first_stored / Math.max(1, full.bytes)) : usualReduction;
  const days = Math.max(1, (last.moment - first.moment) / dayMs);
  const later = points.filter((p) => p !== first && p.builds_on !== null);
  return {
    id,
    moments,
    stored: last.bytes * reduction,
    newPerDay: later.reduce((sum, p) => sum + p.first_stored, 0) / days,
    // what shrank lately is not taken to shrink for years
    growthPerDay: Math.max(0, ((last.bytes - first.bytes) * reduction) / days),
    measured: later.length > 0,
  };
}
