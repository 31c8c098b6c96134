import { DateTime } from 'luxon';
import type { Cause, NightTask, PointKind, RunState } from '@lithodex/contract';
import type { Knex } from 'knex';
import { fromJsonOrNull } from '../../base/db/json';
import type { Base } from '../../base/base';

export interface NightRow {
  readonly id: string;
  readonly run_id: number;
  readonly workload_id: number;
  readonly workload: string;
  readonly source: string;
  readonly policy_id: number | null;
  readonly policy: string | null;
  readonly state: RunState;
  readonly started_at: number;
  readonly ended_at: number | null;
  readonly attempt: number;
  readonly cause: unknown;
  readonly counts: unknown;
  readonly queued_at: number;
  /** Bytes written for the point it made; null where it made none. */
  readonly stored: number | null;
  /** What is read in its run. */
  readonly point_kind: PointKind | null;
}

export const slotMs = 600_000;
export const nightsBefore = 14;

/** Where the night begins: the latest 18:00 in the zone that is at least six hours ago. */
export function nightStart(now: number, zone: string, nights: number): number {
  const limit = DateTime.fromMillis(now, { zone }).minus({ hours: 6 });
  const evening = limit.set({ hour: 18, minute: 0, second: 0, millisecond: 0 });
  return (evening > limit ? evening.minus({ days: 1 }) : evening).minus({ days: nights - 1 }).toMillis();
}

/** Backup tasks queued since `from` as `t`, joined with run `r`, workload `w`, source `s`, policy `p` and the point that was `made`. */
export const backupsWithNames = (db: Knex, from: number): Knex.QueryBuilder =>
  db('task as t')
    .join('run as r', 'r.id', 't.run_id')
    .join('workload as w', 'w.id', 't.workload_id')
    .join('source as s', 's.id', 'w.source_id')
    .leftJoin('policy as p', 'p.id', 'r.policy_id')
    .leftJoin('point as made', 'made.id', 't.id')
    .where('t.type', 'backup')
    .where('t.queued_at', '>=', from);

/**
 * Backup tasks started since `from`; `workloads` limits them to those of some, `open` to those that have not ended or did so at that moment or later. The counts of what is done without a
 * remark are left out.
 */
export async function backupTasksSince(
  deps: Base,
  from: number,
  { workloads, open }: { readonly workloads?: readonly number[]; readonly open?: number } = {},
): Promise<NightRow[]> {
  return backupsWithNames(deps.db, from)
    .modify((q) => {
      if (workloads) void q.whereIn('t.workload_id', workloads);
      if (open !== undefined) void q.where((w) => w.whereNull('t.ended_at').orWhere('t.ended_at', '>=', open));
    })
    .where((q) => q.whereNotNull('t.started_at').orWhere('t.state', 'notStarted'))
    .orderBy(['t.queued_at', 't.run_id'])
    .select<NightRow[]>(
      't.id',
      't.run_id',
      't.workload_id',
      'w.name as workload',
      's.name as source',
      'r.policy_id',
      'p.name as policy',
      't.state',
      deps.db.raw('COALESCE(t.started_at, t.ended_at) AS started_at'),
      't.ended_at',
      't.attempt',
      't.cause',
      deps.db.raw("IF(t.state = 'done', NULL, t.counts) AS counts"),
      't.queued_at',
      'made.stored',
      'r.point_kind',
    );
}

/** All backup tasks since `from` of the workloads of which one was not simply done. */
export async function troubledTasksSince(deps: Base, from: number): Promise<NightRow[]> {
  const troubled = await deps
    .db('task')
    .whereIn('state', ['failed', 'partsMissing', 'remarks', 'held', 'stopped', 'cutOff', 'notStarted'])
    .where({ type: 'backup' })
    .where('queued_at', '>=', from)
    .distinct<{ workload_id: number }[]>('workload_id');
  const ids = troubled.map((t) => t.workload_id);
  return ids.length ? backupTasksSince(deps, from, { workloads: ids }) : [];
}

/** Average number of tasks at work in each slot from `from` on. */
export function atWork(tasks: readonly Pick<NightRow, 'started_at' | 'ended_at'>[], from: number, slots: number, now: number): number[] {
  const load = Array.from({ length: slots }, () => 0);
  for (const task of tasks) {
    const end = task.ended_at ?? now;
    for (let slot = Math.max(0, Math.floor((task.started_at - from) / slotMs)); slot < slots && from + slot * slotMs < end; slot++) {
      const covered = Math.min(end, from + (slot + 1) * slotMs) - Math.max(task.started_at, from + slot * slotMs);
      load[slot]! += Math.max(0, covered) / slotMs;
    }
  }
  return load;
}

/** First start to last end of what has ended, ms; logs, which are taken all day, are left out. */
export function spanOf(tasks: readonly Pick<NightRow, 'started_at' | 'ended_at' | 'point_kind'>[]): number | null {
  let [first, last] = [Infinity, -Infinity];
  for (const { started_at, ended_at, point_kind } of tasks)
    if (ended_at !== null && point_kind !== 'log') {
      first = Math.min(first, started_at);
      last = Math.max(last, ended_at);
    }
  return last >= first ? last - first : null;
}

export function toNightTask(row: NightRow, attempts: number, remark: string): NightTask {
  return {
    runId: row.run_id,
    workload: { id: row.workload_id, name: row.workload },
    policy: row.policy ?? '',
    state: row.state,
    startedAt: row.started_at,
    endedAt: row.ended_at,
    attempts,
    remark,
  };
}

export function causeOf(row: Pick<NightRow, 'cause'>): Cause | null {
  return fromJsonOrNull<Cause>(row.cause);
}

/** Whether a task came to run at all. */
export const hasRun = ({ state }: Pick<NightRow, 'state'>): boolean => state !== 'notStarted';

/** The newest task of each workload; one that did not start only where no other ran. */
export function newestPerWorkload(rows: readonly NightRow[]): NightRow[] {
  const inOrder = [...rows.filter((r) => !hasRun(r)), ...rows.filter(hasRun)];
  return [...new Map(inOrder.map((r) => [r.workload_id, r])).values()];
}
