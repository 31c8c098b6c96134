import { createHash } from 'node:crypto';
import { DrillPlan, DrillSettings, type DrillTold } from '@lithodex/contract';
import type { Knex } from 'knex';
import { fromJson } from '../../base/db/json';

const setting = 'drills';
const usualSettings: DrillSettings = { on: false, at: '03:30', nightly: 2, within: 90 };
/** Of workloads of which nobody said anything. */
export const usualPlan: DrillPlan = { checks: [], objective: null, weight: 1 };

/** The rota: off, as long as nobody said otherwise. */
export async function drillSettings(db: Knex): Promise<DrillSettings> {
  const row = await db('setting').where({ name: setting }).first<{ value: unknown } | undefined>('value');
  return row ? DrillSettings.parse(fromJson(row.value)) : usualSettings;
}

export async function keepDrillSettings(trx: Knex, settings: DrillSettings): Promise<void> {
  const value = JSON.stringify(settings);
  await trx('setting').insert({ name: setting, value }).onConflict().merge({ value });
}

interface PlanRow {
  readonly workload_id: number;
  readonly checks: unknown;
  readonly objective: number | null;
  readonly weight: number;
}

/** How workloads are drilled, by workload; those of which nobody said anything are not among them. */
export async function drillPlans(db: Knex, workloads?: readonly number[]): Promise<Map<number, DrillPlan>> {
  const rows = await db('drill_plan')
    .modify((q) => {
      if (workloads) void q.whereIn('workload_id', [...workloads]);
    })
    .select<PlanRow[]>();
  return new Map(
    rows.map(({ workload_id, checks, objective, weight }) => [
      workload_id,
      DrillPlan.parse({ checks: fromJson(checks), objective, weight }),
    ]),
  );
}

export async function keepDrillPlan(trx: Knex, workloadId: number, { checks, objective, weight }: DrillPlan): Promise<void> {
  const row = { checks: JSON.stringify(checks), objective, weight };
  await trx('drill_plan')
    .insert({ workload_id: workloadId, ...row })
    .onConflict()
    .merge(row);
}

/** What is kept of a drill as one text, so that it can be held against its sum. */
export interface DrillEvidence extends Omit<DrillTold, 'attempt'> {
  readonly workload: string;
  readonly pointId: string;
  readonly pointMoment: number;
  readonly at: number;
  readonly by: string;
  readonly mover: string;
  readonly objective: number | null;
}

/** How a drill came out. */
export interface DrillOutcome {
  readonly id: string;
  readonly workload_id: number;
  readonly at: number;
  readonly passed: 0 | 1;
  readonly usable_ms: number | null;
}

export interface DrillColumns extends DrillOutcome {
  readonly run_id: number;
  readonly point_id: string;
  readonly evidence: unknown;
  readonly sum: string;
}

/** The text that the sum is of: fields in an order of their own, whatever keeps them. */
export function evidenceSum(id: string, evidence: DrillEvidence): string {
  const { workload, pointId, pointMoment, at, by, mover, room, objective, usableMs, items, bytes, left, steps, results } = evidence;
  const text = [
    id,
    workload,
    pointId,
    pointMoment,
    at,
    by,
    mover,
    room,
    objective,
    usableMs,
    items,
    bytes,
    left,
    steps.map((s) => [s.name, s.ms]),
    results.map((r) => [r.what, r.found, r.passed]),
  ];
  return createHash('sha256').update(JSON.stringify(text)).digest('hex');
}

export const passedOf = ({ results }: Pick<DrillTold, 'results'>): boolean => results.every((r) => r.passed);

/** The last drill of each workload. */
export async function lastDrills(db: Knex): Promise<Map<number, DrillOutcome>> {
  const newest = db('drill').select('workload_id').max('at as at').groupBy('workload_id').as('n');
  const rows = await db('drill as d')
    .join(newest, (on) => on.on('n.workload_id', 'd.workload_id').andOn('n.at', 'd.at'))
    .select<DrillOutcome[]>('d.id', 'd.workload_id', 'd.at', 'd.passed', 'd.usable_ms');
  return new Map(rows.map((r) => [r.workload_id, r]));
}

/** The evidence of those of some drills that did not pass, by drill. */
export async function failedEvidence(db: Knex, drills: Iterable<DrillOutcome>): Promise<Map<string, DrillEvidence>> {
  const failed = [...drills].filter((d) => d.passed === 0).map((d) => d.id);
  const rows = await db('drill').whereIn('id', failed).select<Pick<DrillColumns, 'id' | 'evidence'>[]>('id', 'evidence');
  return new Map(rows.map((r) => [r.id, fromJson<DrillEvidence>(r.evidence)]));
}

/** What was first not as it should be, in words; '' where all was. */
export function firstFailed({ results }: Pick<DrillEvidence, 'results'>): string {
  const failed = results.find((r) => !r.passed);
  return failed ? `${failed.what}: ${failed.found}` : '';
}
