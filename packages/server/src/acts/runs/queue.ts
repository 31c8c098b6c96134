import { kindNames, kinds, topsOf, type TenantFacts } from '@lithodex/kinds';
import type { Knex } from 'knex';
import { v7 as newId } from 'uuid';
import {
  priorities,
  taskTypes,
  type Cause,
  type WorkType,
  type PointKind,
  type PolicyBody,
  type PolicyRule,
  Scripts,
  type RunState,
} from '@lithodex/contract';
import type { Deps } from '../deps';
import { fromJson } from '../../base/db/json';
import { ApiError } from '../../base/errors';
import type { SeriesRow } from '../../records/catalog/points';
import { sumsOf, tasksOf } from '../../records/runs/run-rows';
import { madePoints, runStateOf } from '../../records/runs/run-state';

export interface NewTask {
  readonly workloadId: number | null;
  readonly seriesNo: number | null;
  readonly type: WorkType;
  readonly work: unknown;
}

/** Somebody waits for a restore. */
const beforeAll = -1;

export interface RunEnd {
  /** ms. */
  readonly ends: number;
  readonly stop: boolean;
}

export interface NewRun {
  readonly kind: WorkType;
  readonly pointKind?: PointKind;
  readonly startedBy: 'schedule' | 'hand' | 'onDemand' | 'retry';
  readonly policyId?: number | null;
  /** Which rule of its policy; 1 where there is none. */
  readonly ruleNo?: number;
  readonly name: string;
  readonly person: string;
  readonly reason?: string;
  readonly rules?: string;
  readonly keepOwn?: unknown;
  readonly priority?: PolicyBody['priority'];
  /** Until when its tasks may start, and whether what still runs then is stopped. */
  readonly window?: RunEnd;
  /** How often what failed was tried again by itself before. */
  readonly retried?: number;
  /** The run that has to have made its point before. */
  readonly after?: number | undefined;
  readonly tasks: readonly NewTask[];
}

/** Puts a run with its tasks into the queue. */
export async function queueRun(trx: Knex.Transaction, now: number, run: NewRun): Promise<number> {
  const [id] = await trx('run').insert({
    kind: run.kind,
    point_kind: run.pointKind ?? null,
    started_by: run.startedBy,
    policy_id: run.policyId ?? null,
    rule_no: run.ruleNo ?? 1,
    name: run.name.slice(0, 160),
    person: run.person,
    reason: run.reason ?? '',
    rules: run.rules ?? '',
    state: 'waiting',
    queued_at: now,
    keep_own: run.keepOwn ? JSON.stringify(run.keepOwn) : null,
    window_ends: run.window?.ends ?? null,
    window_stop: run.window?.stop ?? false,
    retried: run.retried ?? 0,
    after_run: run.after ?? null,
  });
  const priority = taskTypes[run.kind].urgent ? beforeAll : priorities.indexOf(run.priority ?? 'usual');
  for (const task of run.tasks) await queueTask(trx, now, id!, task, priority);
  return id!;
}

/** Adds a task to a run that has not ended. Tasks of a lower `priority` are claimed first. */
export async function queueTask(
  trx: Knex.Transaction,
  now: number,
  runId: number,
  task: NewTask,
  priority = priorities.indexOf('usual'),
): Promise<void> {
  await trx('task').insert({
    id: newId(),
    run_id: runId,
    workload_id: task.workloadId,
    series_no: task.seriesNo,
    type: task.type,
    state: 'waiting',
    queued_at: now,
    work: JSON.stringify(task.work),
    priority,
    follows: taskTypes[task.type].stays || (task.type === 'backup' && (task.work as BackupPlan).follow === true),
  });
}

/** A log has a series of its own: it never waits for what is read whole. */
export const methodOf = (kind: PointKind): string => (kind === 'log' ? 'log' : 'files');

/** The series of a workload on a target, made on first use. */
export async function seriesFor(trx: Knex.Transaction, workloadId: number, targetId: string, kind: PointKind): Promise<SeriesRow> {
  const key = { workload_id: workloadId, target_id: targetId, method: methodOf(kind), part: '' };
  await trx('series')
    .insert({ id: newId(), ...key })
    .onConflict()
    .ignore();
  return await trx('series').where(key).first<SeriesRow>();
}

export interface BackupPlan {
  readonly targetId: string;
  readonly kind: PointKind;
  readonly fresh?: boolean;
  readonly include: readonly string[];
  readonly exclude: readonly string[];
  readonly lockDays: number | null;
  /** What is read of a workload of several parts; all where it is not said. */
  readonly parts?: readonly string[];
  /** For how many days any second is to be reached by a log. */
  readonly logDays?: number;
  /** The log is taken as well. */
  readonly logged?: boolean;
  /** A log that is followed without a pause. */
  readonly follow?: boolean;
  readonly scripts?: Scripts;
  readonly namesInside?: boolean;
  /** Id of a machine in a snapshot that its storage keeps, which is read in the place of the machine. */
  readonly snapshot?: string;
}

/** A rule of a policy. */
export interface RuleId {
  readonly policyId: number;
  readonly ruleNo: number;
}

/** Those of the workloads that such a run can be taken of: only some kinds have a log, and not every member of a tenant has each part. */
async function whereTaken(trx: Knex.Transaction, workloads: readonly number[], { kind, parts }: BackupPlan): Promise<readonly number[]> {
  if (parts?.length) return withParts(trx, workloads, parts);
  if (kind !== 'log') return workloads;
  const logged = kindNames.filter((name) => kinds[name].logs);
  const rows = await trx('workload')
    .whereIn('id', [...workloads])
    .whereIn('kind', logged)
    .select<{ id: number }[]>('id');
  return rows.map((r) => r.id);
}

async function withParts(trx: Knex.Transaction, workloads: readonly number[], parts: readonly string[]): Promise<readonly number[]> {
  const members = await trx('workload')
    .whereIn('id', [...workloads])
    .where({ kind: 'tenant' })
    .select<{ id: number; facts: unknown }[]>('id', 'facts');
  const without = new Set(
    members.filter(({ facts }) => !topsOf(fromJson<TenantFacts>(facts)).some((top) => parts.includes(top))).map((m) => m.id),
  );
  return workloads.filter((id) => !without.has(id));
}

/**
 * Tasks that protect workloads by a plan. Workloads for which the same rule still has such a task open are passed over, what other rules have open is waited for; by hand, without a rule,
 * workloads that are being protected at all.
 */
export async function backupTasks(
  trx: Knex.Transaction,
  workloads: readonly number[],
  plan: BackupPlan,
  type: 'backup' | 'trial',
  by?: RuleId,
): Promise<NewTask[]> {
  const tasks: NewTask[] = [];
  for (const workloadId of await whereTaken(trx, workloads, plan)) {
    const series = await seriesFor(trx, workloadId, plan.targetId, plan.kind);
    const open = await trx('task as t')
      .join('run as r', 'r.id', 't.run_id')
      .where({ 't.series_no': series.no, 't.type': 'backup', ...(by && { 'r.policy_id': by.policyId, 'r.rule_no': by.ruleNo }) })
      .whereIn('t.state', ['waiting', 'running'])
      .first<{ id: string } | undefined>('t.id');
    if (!open || type === 'trial') tasks.push({ workloadId, seriesNo: series.no, type, work: plan });
  }
  return tasks;
}

/** The task that stores a machine of a snapshot on a target, in a series of its own; undefined where it stands there or is being stored. */
export async function snapshotTask(
  trx: Knex.Transaction,
  workloadId: number,
  targetId: string,
  snapshot: string,
): Promise<NewTask | undefined> {
  const key = { workload_id: workloadId, target_id: targetId, method: methodOf('full'), part: snapshot };
  await trx('series')
    .insert({ id: newId(), ...key })
    .onConflict()
    .ignore();
  const series = await trx('series').where(key).forUpdate().first<SeriesRow>();
  const there = await trx('point').where({ series_no: series.no, state: 'visible' }).first<{ id: string } | undefined>('id');
  const open = await trx('task')
    .where({ series_no: series.no, type: 'backup' })
    .whereIn('state', ['waiting', 'running'])
    .first<{ id: string } | undefined>('id');
  if (there || open) return undefined;
  const work: BackupPlan = { targetId, kind: 'full', include: [], exclude: [], lockDays: null, snapshot };
  return { workloadId, seriesNo: series.no, type: 'backup', work };
}

export function planOf(
  { include, exclude, scripts, rules, namesInside }: PolicyBody,
  { targetId, kind, lockDays, keep, schedule, parts }: PolicyRule,
): BackupPlan {
  const logDays = kind === 'log' && keep.by === 'days' ? { logDays: keep.days } : {};
  const logged = kind !== 'log' && rules.some((r) => r.kind === 'log') ? { logged: true } : {};
  const follow = schedule.every === 'moment' ? { follow: true } : {};
  const some = parts.length ? { parts } : {};
  return {
    targetId,
    kind,
    include,
    exclude,
    lockDays,
    scripts,
    ...some,
    ...logDays,
    ...logged,
    ...follow,
    ...(namesInside && { namesInside }),
  };
}

/** Starts rules of a policy for the workloads it matches: a backup has one rule, a trial may look at several. Throws NOT_NOW when none is left to do. */
export async function startPolicy(
  trx: Knex.Transaction,
  now: number,
  policy: { id: number; body: PolicyBody },
  rules: readonly [PolicyRule, ...PolicyRule[]],
  workloads: readonly number[],
  how: { startedBy: NewRun['startedBy']; person: string; trial?: boolean; window?: RunEnd },
): Promise<number> {
  const type = how.trial ? 'trial' : 'backup';
  const tasks: NewTask[] = [];
  for (const rule of rules) {
    const by = { policyId: policy.id, ruleNo: rule.no };
    tasks.push(...(await backupTasks(trx, workloads, planOf(policy.body, rule), type, by)));
  }
  if (!tasks.length)
    throw new ApiError(
      'NOT_NOW',
      undefined,
      workloads.length ? 'All its workloads are being protected right now.' : 'The policy matches no workload, so there is nothing to run.',
    );
  return queueRun(trx, now, {
    kind: type,
    pointKind: rules[0].kind,
    startedBy: how.startedBy,
    policyId: policy.id,
    ruleNo: rules[0].no,
    name: policy.body.name,
    person: how.person,
    priority: policy.body.priority,
    ...(how.window && { window: how.window }),
    tasks,
  });
}

/** Brings the state and times of a run in line with its tasks, and tells who watches. */
export async function settleRun(deps: Deps, trx: Knex.Transaction, runId: number): Promise<RunState> {
  await trx('run').where({ id: runId }).forUpdate().first('id');
  const tasks = await trx('task')
    .where({ run_id: runId })
    .select<{ state: RunState; started_at: number | null; ended_at: number | null }[]>('state', 'started_at', 'ended_at');
  const state = runStateOf(tasks.map((t) => t.state));
  const open = state === 'running' || state === 'waiting';
  const started = tasks.map((t) => t.started_at).filter((t) => t !== null);
  const ended = tasks.map((t) => t.ended_at).filter((t) => t !== null);
  await trx('run')
    .where({ id: runId })
    .update({
      state,
      started_at: started.length ? Math.min(...started) : null,
      ended_at: open || !ended.length ? null : Math.max(...ended),
      sums: open ? null : JSON.stringify(sumsOf(await tasksOf(trx, [runId]))),
    });
  if (!open && !madePoints.includes(state)) await endThoseAfter(deps, trx, runId);
  return state;
}

/** What waits for a point that will not be made is not begun. */
async function endThoseAfter(deps: Deps, trx: Knex.Transaction, runId: number): Promise<void> {
  const waiting = await trx('run').where({ after_run: runId, state: 'waiting' }).select<{ id: number }[]>('id');
  for (const { id } of waiting) {
    const cause: Cause = {
      code: 'RESCUE_FAILED',
      message: `The point that was to be taken first was not: see run ${runId}.`,
      remedy: 'Nothing was changed. Mend what kept it from being taken, or restore without one.',
    };
    await trx('task')
      .where({ run_id: id, state: 'waiting' })
      .update({ state: 'failed', ended_at: deps.clock.now(), cause: JSON.stringify(cause) });
    await settleRun(deps, trx, id);
  }
}
