import { drillRota, nextRuns, type DrillCandidate } from '@lithodex/core';
import type { DrillPlan, DrillSettings } from '@lithodex/contract';
import type { Knex } from 'knex';
import { fromJson } from '../../base/db/json';
import { inTransaction } from '../../base/db/open';
import { drillPlans, drillSettings, lastDrills, usualPlan, type DrillOutcome } from '../../records/trust/drill-rows';
import type { Deps } from '../deps';
import { beingDrilled, cannotDrill, drillable, queueDrills, type Drillable } from './drills';

/** One workload as the rota sees it. */
export interface OnRota {
  readonly workload: Drillable;
  readonly plan: DrillPlan;
  readonly last: DrillOutcome | undefined;
  readonly cannot: string;
  readonly open: boolean;
  /** Counted from 1; null where it is left out. */
  readonly turn: number | null;
}

/** All workloads with a point, in the order of their names, with their turns. */
export async function rotaNow(db: Knex, now: number): Promise<OnRota[]> {
  const [workloads, plans, last, open] = [await drillable(db), await drillPlans(db), await lastDrills(db), await beingDrilled(db)];
  const fresh = await freshSince(db, last);
  const candidates = workloads
    .filter((w) => cannotDrill(w) === '' && !open.has(w.id))
    .map((w): DrillCandidate => {
      const before = last.get(w.id);
      return {
        id: w.id,
        weight: (plans.get(w.id) ?? usualPlan).weight,
        last: before ? { at: before.at, passed: before.passed === 1 } : null,
        changed: w.bytes > 0 ? (fresh.get(w.id) ?? 0) / w.bytes : 0,
      };
    });
  const order = drillRota(candidates, now);
  const turns = new Map(order.map((id, i) => [id, i + 1]));
  return workloads.map((workload) => ({
    workload,
    plan: plans.get(workload.id) ?? usualPlan,
    last: last.get(workload.id),
    cannot: cannotDrill(workload),
    open: open.has(workload.id),
    turn: turns.get(workload.id) ?? null,
  }));
}

/** New bytes of the points of workloads since their last drill. */
async function freshSince(db: Knex, last: ReadonlyMap<number, DrillOutcome>): Promise<Map<number, number>> {
  if (!last.size) return new Map();
  const rows = await db('point as p')
    .join(db('drill').select('workload_id').max('at as at').groupBy('workload_id').as('d'), 'd.workload_id', 'p.workload_id')
    .where({ 'p.state': 'visible' })
    .whereRaw('p.moment > d.at')
    .groupBy('p.workload_id')
    .sum({ fresh: 'p.fresh' })
    .select<{ workload_id: number; fresh: string | number }[]>('p.workload_id');
  return new Map(rows.map((r) => [r.workload_id, Number(r.fresh)]));
}

const lastRound = 'drills-last';

/** When drills begin by themselves after an instant (ms). */
export function nextRota({ at }: DrillSettings, zone: string, after: number): number {
  return nextRuns({ schedule: { every: 'day', at }, zone, closed: [] }, after, 1)[0]!;
}

/** Queues the drills of a night, once its time has come. */
export async function startDueDrills(deps: Deps): Promise<void> {
  const { db, clock, config } = deps;
  const settings = await drillSettings(db);
  if (!settings.on) return;
  const now = clock.now();
  const row = await db('setting').where({ name: lastRound }).first<{ value: unknown } | undefined>('value');
  const keep = (trx: Knex) => {
    const value = JSON.stringify({ at: now });
    return trx('setting').insert({ name: lastRound, value }).onConflict().merge({ value });
  };
  // the first night is the one that comes
  if (!row) {
    await keep(db);
    return;
  }
  if (nextRota(settings, config.zone, fromJson<{ at: number }>(row.value).at) > now) return;
  const due = (await rotaNow(db, now)).filter((r) => r.turn !== null && r.turn <= settings.nightly).map((r) => r.workload.id);
  const runId = await inTransaction(db, async (trx) => {
    await keep(trx);
    return due.length ? queueDrills(trx, now, due, { person: '', name: 'Drills of the night' }) : undefined;
  });
  if (runId === undefined) return;
  deps.movers.workAppeared();
  await deps.events.emit('run', { runId });
}
