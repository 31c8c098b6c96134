import { taskTypes, type Cause, type Progress, type RunRow, type RunState, type TaskRow, type WorkType } from '@lithodex/contract';
import type { Knex } from 'knex';
import { fromJsonOrNull } from '../../base/db/json';

export interface RunRecord {
  readonly id: number;
  readonly kind: RunRow['kind'];
  readonly point_kind: RunRow['pointKind'];
  readonly started_by: RunRow['trigger'];
  readonly policy_id: number | null;
  readonly rule_no: number;
  readonly name: string;
  readonly person: string;
  readonly reason: string;
  readonly rules: string;
  readonly state: RunState;
  readonly queued_at: number;
  readonly started_at: number | null;
  readonly ended_at: number | null;
  readonly keep_own: unknown;
  /** The run whose point has to be made before. */
  readonly after_run: number | null;
  /** {@link RunSums} as JSON, kept when it has ended; null before. */
  readonly sums: unknown;
}

export interface TaskRecord {
  readonly id: string;
  readonly run_id: number;
  readonly workload_id: number | null;
  readonly workload: string | null;
  readonly type: WorkType;
  readonly state: RunState;
  readonly attempt: number;
  readonly mover: string | null;
  readonly started_at: number | null;
  readonly ended_at: number | null;
  readonly stop_requested: 0 | 1;
  readonly progress: unknown;
  readonly phases: unknown;
  readonly counts: unknown;
  readonly measured_ms: number | null;
  readonly measured_bytes: number | null;
  readonly cause: unknown;
  readonly work: unknown;
}

type Counts = RunRow['counts'];
const noCounts: Counts = { items: 0, files: 0, bytes: 0, read: 0, stored: 0, warnings: 0, failed: 0 };

function countsOf(task: TaskRecord): Counts {
  const { items, files, bytes, read, stored, warnings, failed } = fromJsonOrNull<Counts>(task.counts) ?? noCounts;
  return { items, files, bytes, read, stored, warnings, failed };
}

function addCounts(a: Counts, b: Counts): Counts {
  return Object.fromEntries(Object.keys(noCounts).map((k) => [k, a[k as keyof Counts] + b[k as keyof Counts]])) as Counts;
}

function addProgress(all: readonly Progress[]): Progress | null {
  if (!all.length) return null;
  const sum = (pick: (p: Progress) => number) => all.reduce((a, p) => a + pick(p), 0);
  const left = all.map((p) => p.leftMs).filter((ms) => ms !== null);
  return {
    phase: all[0]!.phase,
    items: sum((p) => p.items),
    bytes: sum((p) => p.bytes),
    read: sum((p) => p.read),
    fresh: sum((p) => p.fresh),
    stored: sum((p) => p.stored),
    expectedItems: sum((p) => p.expectedItems),
    expectedBytes: sum((p) => p.expectedBytes),
    rate: sum((p) => p.rate),
    leftMs: left.length ? Math.max(...left) : null,
  };
}

export function tasksOf(db: Knex, runIds: readonly number[]): Promise<TaskRecord[]> {
  return db('task as t')
    .leftJoin('workload as w', 'w.id', 't.workload_id')
    .whereIn('t.run_id', runIds)
    .orderBy(['t.run_id', 'w.name', 't.id'])
    .select<TaskRecord[]>(
      't.id',
      't.run_id',
      't.workload_id',
      'w.name as workload',
      't.type',
      't.state',
      't.attempt',
      't.mover',
      't.started_at',
      't.ended_at',
      't.stop_requested',
      't.progress',
      't.phases',
      't.counts',
      't.measured_ms',
      't.measured_bytes',
      't.cause',
      db.raw('NULL AS work'),
    );
}

/** What the tasks of a run come to. */
type RunSums = Pick<RunRow, 'workloads' | 'workloadCount' | 'counts' | 'cause'>;

export function sumsOf(tasks: readonly TaskRecord[]): RunSums {
  const named = tasks.filter((t) => t.workload_id !== null);
  const causes = tasks.map((t) => fromJsonOrNull<Cause>(t.cause)).filter((c) => c !== null);
  return {
    workloads: named.slice(0, 8).map((t) => ({ id: t.workload_id!, name: t.workload ?? '' })),
    workloadCount: named.length,
    counts: tasks.map(countsOf).reduce(addCounts, noCounts),
    cause: causes[0] ?? null,
  };
}

/** `tasks`: those of the run; not needed for one whose sums are kept. */
export function toRunRow(run: RunRecord, tasks: readonly TaskRecord[], policyName: string | undefined): RunRow {
  return {
    id: run.id,
    kind: run.kind,
    pointKind: run.point_kind,
    state: run.state,
    trigger: run.started_by,
    policy: run.policy_id !== null && policyName !== undefined ? { id: run.policy_id, name: policyName } : null,
    by: run.person,
    name: run.name,
    queuedAt: run.queued_at,
    startedAt: run.started_at,
    endedAt: run.ended_at,
    ...(fromJsonOrNull<RunSums>(run.sums) ?? sumsOf(tasks)),
    progress: addProgress(tasks.map((t) => fromJsonOrNull<Progress>(t.progress)).filter((p) => p !== null)),
  };
}

/** Less than this is over before a rate of it says anything. */
export const tooLittleToMeasure = 4_000_000;

function measuredRate({ measured_ms: ms, measured_bytes: bytes }: TaskRecord): number | null {
  return ms && bytes && bytes >= tooLittleToMeasure ? Math.round((bytes / ms) * 1000) : null;
}

export function toTaskRow(task: TaskRecord, pointId: string | null, buildsOn: number | null): TaskRow {
  return {
    id: task.id,
    workload: {
      id: task.workload_id ?? 1,
      name: task.workload ?? (taskTypes[task.type].aboutTarget ? 'the target' : 'several workloads'),
    },
    state: task.state,
    attempt: task.attempt,
    mover: task.mover,
    startedAt: task.started_at,
    endedAt: task.ended_at,
    progress: fromJsonOrNull<Progress>(task.progress),
    phases: fromJsonOrNull<TaskRow['phases']>(task.phases) ?? [],
    counts: countsOf(task),
    rate: measuredRate(task),
    cause: fromJsonOrNull<Cause>(task.cause),
    pointId,
    buildsOn,
    stopRequested: task.stop_requested === 1,
  };
}
