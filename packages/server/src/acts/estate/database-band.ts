import type { Band, BandCommits } from '@lithodex/contract';
import { placeOrder, standsIn, type DatabaseLogPoint, type DatabasePoint, type DatabaseUntil } from '@lithodex/kinds';
import type { Knex } from 'knex';
import type { PointRow } from '../../records/catalog/points';
import { fromJson } from '../../base/db/json';
import type { Deps } from '../deps';
import { ApiError } from '../../base/errors';
import { policiesInForce } from '../../records/policies/matching';
import { pointRefs } from '../../records/targets/refs';

const askMs = 30_000;

interface LoggedPoint {
  readonly row: PointRow;
  readonly facts: DatabaseLogPoint;
}
interface FullPoint {
  readonly row: PointRow;
  readonly facts: DatabasePoint;
}

/** What leads to a moment: a full, and the point of the log with the stretch that both stand in. */
export interface Chain {
  readonly full: FullPoint;
  readonly log: LoggedPoint;
  readonly stretch: number;
}

/** Fulls and points of the log of a database server that can be read, the oldest first. */
async function chainPoints(db: Knex, workloadId: number): Promise<{ fulls: FullPoint[]; logs: LoggedPoint[] }> {
  const rows = await db('point')
    .where({ workload_id: workloadId, state: 'visible' })
    .whereNotNull('facts')
    .orderBy('moment')
    .select<PointRow[]>();
  const fulls: FullPoint[] = [];
  const logs: LoggedPoint[] = [];
  for (const row of rows) {
    const facts = fromJson<DatabasePoint | DatabaseLogPoint>(row.facts);
    if (facts.kind === 'database') fulls.push({ row, facts });
    else logs.push({ row, facts });
  }
  return { fulls, logs };
}

/** Whether a full stands in a stretch of the log. */
const stands = ({ facts: { position } }: FullPoint, stretch: DatabaseLogPoint['reach'][number]) =>
  position !== null && standsIn(position, stretch);

/** Whether a full of the same stretch can be brought forward to a moment: it is of no later second, and holds no commit that is not wanted. */
export function leadsTo(full: NonNullable<DatabasePoint['position']>, until: DatabaseUntil): boolean {
  if (full.since > until.at) return false;
  if (!('file' in until)) return true;
  return placeOrder(full, { file: until.file, at: until.position }) <= 0;
}

/** How old the newest second of workloads may be, in minutes, by the policies they belong to; those of which none says are left out. */
export async function logObjectives(db: Knex): Promise<Map<number, number>> {
  const minutesOf = new Map(
    (await policiesInForce(db)).flatMap(({ id, body }) => {
      const said = body.rules.flatMap((r) => (r.kind === 'log' && r.objectiveMinutes ? [r.objectiveMinutes] : []));
      return said.length ? [[id, Math.min(...said)] as const] : [];
    }),
  );
  const assigned = await db('assignment')
    .whereIn('policy_id', [...minutesOf.keys()])
    .select<{ policy_id: number; workload_id: number }[]>('policy_id', 'workload_id');
  const found = new Map<number, number>();
  for (const { policy_id, workload_id } of assigned)
    found.set(workload_id, Math.min(found.get(workload_id) ?? Infinity, minutesOf.get(policy_id)!));
  return found;
}

/** The newest point of the log tells most: it holds what those before it held, as far as it is still needed. */
export async function bandOf(db: Knex, workloadId: number): Promise<Omit<Band, 'objectiveMinutes'>> {
  const { fulls, logs } = await chainPoints(db, workloadId);
  const newest = logs.at(-1);
  const stretches = (newest?.facts.reach ?? []).map((r) => {
    const first = fulls.find((f) => stands(f, r));
    return { from: first?.facts.position?.since ?? null, logged: r.from, to: r.to, cause: r.cause };
  });
  return {
    stretches,
    fulls: fulls.map(({ row, facts }) => ({
      pointId: row.id,
      moment: facts.position?.since ?? row.moment,
      logged: facts.position !== null,
      bytes: row.bytes,
    })),
    log: newest ? { pointId: newest.row.id, moment: newest.row.moment, bytes: newest.row.bytes } : null,
    notable: newest?.facts.notable ?? [],
  };
}

/** A commit may be of the second that is not over when the log is read: its place is known all the same. */
const begunMs = 2000;

/** The stretch a moment lies in. */
function stretchAt(log: LoggedPoint | undefined, at: number): DatabaseLogPoint['reach'][number] | undefined {
  return log?.facts.reach.find((r) => at >= r.from && at <= r.to);
}

/** What leads to a moment of a workload. Throws INVALID where nothing does. */
export async function chainTo(db: Knex, workloadId: number, until: DatabaseUntil): Promise<Chain> {
  const { at } = until;
  const { fulls, logs } = await chainPoints(db, workloadId);
  const log = logs.at(-1);
  const within = stretchAt(log, at) ?? ('file' in until ? stretchAt(log, at - begunMs) : undefined);
  const full = within && fulls.findLast((f) => stands(f, within) && leadsTo(f.facts.position!, until));
  if (!log || !within || !full)
    throw new ApiError(
      'INVALID',
      [{ at: 'body.until' }],
      'The log does not lead to that moment. Choose one inside a band. Nothing was changed.',
    );
  return { full, log, stretch: within.stretch };
}

/** The commits around a moment, as the log tells them. Throws INVALID where the log knows nothing of it. */
export async function commitsAround(deps: Deps, workloadId: number, at: number, before: number, after: number): Promise<BandCommits> {
  const { logs } = await chainPoints(deps.db, workloadId);
  const log = logs.at(-1);
  const within = stretchAt(log, at) ?? stretchAt(log, at - begunMs);
  if (!log || !within) throw new ApiError('INVALID', [{ at: 'query.at' }], 'The log knows nothing of that moment.');
  const [point] = await pointRefs(deps.db, deps.secrets, [log.row.id]);
  if (!point) throw new ApiError('POINT_GONE');
  return { rows: await deps.movers.ask({ ask: 'commits', point, around: { stretch: within.stretch, at, before, after } }, askMs) };
}
