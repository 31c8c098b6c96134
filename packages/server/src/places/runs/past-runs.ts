import type { RunState } from '@lithodex/contract';
import type { Knex } from 'knex';
import { runStateOf } from '../../records/runs/run-state';

/** Zones differ from UTC by whole quarters of an hour, so that no quarter stands in two days. */
const quarterMs = 900_000;

/** Backups of a policy that began within a quarter of an hour. */
export interface PastRuns {
  readonly policyId: number;
  readonly name: string;
  readonly first: number;
  readonly count: number;
  readonly workloads: number;
  readonly state: RunState;
  readonly newest: number;
}

/** The backups that policies and people had started in [from, to] (ms), oldest first. What was tried again stands with the first attempt, a full put together with what it was made of. */
export async function pastRuns(db: Knex, from: number, to: number): Promise<PastRuns[]> {
  interface Row {
    readonly policyId: number;
    readonly name: string;
    readonly first: number;
    readonly count: number;
    readonly workloads: number | null;
    readonly states: string;
    readonly newest: number;
  }
  const rows = await db('run as r')
    .join('policy as p', 'p.id', 'r.policy_id')
    .where('r.kind', 'backup')
    .where('r.queued_at', '>=', from)
    .where('r.queued_at', '<=', to)
    .whereIn('r.started_by', ['schedule', 'hand'])
    .whereRaw("NOT (r.point_kind <=> 'synthetic')")
    .groupByRaw('r.policy_id, p.name, FLOOR(r.queued_at / ?)', [quarterMs])
    .orderBy('first')
    .select<Row[]>(
      'r.policy_id as policyId',
      'p.name as name',
      db.raw('MIN(r.queued_at) AS first'),
      db.raw('COUNT(*) AS count'),
      db.raw("MAX(JSON_VALUE(r.sums, '$.workloadCount') + 0) AS workloads"),
      db.raw('GROUP_CONCAT(DISTINCT r.state) AS states'),
      db.raw('MAX(r.id) AS newest'),
    );
  const open = rows.filter((r) => r.workloads === null).map((r) => r.newest);
  const counted = await db('task')
    .whereIn('run_id', open)
    .groupBy('run_id')
    .select<{ run_id: number; n: number }[]>('run_id', db.raw('COUNT(DISTINCT workload_id) AS n'));
  const workloads = new Map(counted.map((c) => [c.run_id, Number(c.n)]));
  return rows.map(({ states, ...r }) => ({
    ...r,
    count: Number(r.count),
    workloads: Number(r.workloads ?? workloads.get(r.newest) ?? 0),
    state: runStateOf(states.split(',') as RunState[]),
  }));
}
