import type { DrillCheck, DrillRoom, DrillWork } from '@lithodex/contract';
import type { DatabasePoint, KindName, MachinePoint } from '@lithodex/kinds';
import type { Knex } from 'knex';
import { fromJson } from '../../base/db/json';
import { ApiError } from '../../base/errors';
import type { Secrets } from '../../base/secrets';
import { platformRef, type PlatformRow } from '../../records/systems/platform-rows';
import { applicationOfRow, type SystemRow } from '../../records/systems/system-rows';
import { pointRefs } from '../../records/targets/refs';
import { drillPlans, usualPlan } from '../../records/trust/drill-rows';
import { queueRun, type NewTask } from '../runs/queue';

/** What a drill keeps in the queue. `systemId`: in which system it takes place, null for on the mover. */
export interface DrillTask {
  readonly pointId: string;
  readonly targetId: string;
  readonly systemId: number | null;
  readonly checks: readonly DrillCheck[];
  readonly objective: number | null;
}

/** A workload with its newest point that can be read. */
export interface Drillable {
  readonly id: number;
  readonly name: string;
  readonly kind: KindName;
  readonly source_id: number;
  readonly point_id: string;
  readonly target_id: string;
  readonly moment: number;
  readonly bytes: number;
  /** Whether its system is connected. */
  readonly opened: 0 | 1;
}

/** Of these kinds a drill takes place in the system that they are of. */
const inTheirSystem: readonly KindName[] = ['machine', 'application'];
const usualPatience = 300;

/** Workloads with a point, each with the newest that is not suspect, where that stands on a target. */
export function drillable(db: Knex, workloads?: readonly number[]): Promise<Drillable[]> {
  return db('workload_points as n')
    .join('point as p', 'p.id', 'n.point_id')
    .join('workload as w', 'w.id', 'n.workload_id')
    .join('source as s', 's.id', 'w.source_id')
    .join('series as r', 'r.no', 'p.series_no')
    .whereNot({ 'p.kind': 'log' })
    .whereExists(db('copy as c').whereRaw("c.point_id = p.id AND c.state = 'present'"))
    .modify((q) => {
      if (workloads) void q.whereIn('w.id', [...workloads]);
    })
    .orderBy('w.name')
    .select<Drillable[]>(
      'w.id',
      'w.name',
      'w.kind',
      'w.source_id',
      'p.id as point_id',
      'r.target_id',
      'p.moment',
      'p.bytes',
      db.raw('s.secret IS NOT NULL AS opened'),
    );
}

/** Why a workload can't be drilled, in words; '' where it can. */
export function cannotDrill({ kind, opened }: Pick<Drillable, 'kind' | 'opened'>): string {
  if (!inTheirSystem.includes(kind) || opened === 1) return '';
  return kind === 'machine' ? 'Its platform is not connected: there is no place to start it.' : 'Its cluster is not connected.';
}

/** Workloads of which a drill waits or runs. */
export async function beingDrilled(db: Knex): Promise<Set<number>> {
  const rows = await db('task')
    .where({ type: 'drill' })
    .whereIn('state', ['waiting', 'running'])
    .select<{ workload_id: number }[]>('workload_id');
  return new Set(rows.map((r) => r.workload_id));
}

/** Queues drills of workloads, a task for each; those that are being drilled are passed over. Throws NOT_NOW where none is left. */
export async function queueDrills(
  trx: Knex.Transaction,
  now: number,
  workloads: readonly number[],
  by: { readonly person: string; readonly name: string },
): Promise<number> {
  const [found, open, plans] = [await drillable(trx, workloads), await beingDrilled(trx), await drillPlans(trx, workloads)];
  const able = found.filter((w) => cannotDrill(w) === '');
  const tasks = able
    .filter((w) => !open.has(w.id))
    .map((w): NewTask => {
      const { checks, objective } = plans.get(w.id) ?? usualPlan;
      const systemId = inTheirSystem.includes(w.kind) ? w.source_id : null;
      const work: DrillTask = { pointId: w.point_id, targetId: w.target_id, systemId, checks, objective };
      return { workloadId: w.id, seriesNo: null, type: 'drill', work };
    });
  if (!tasks.length) throw new ApiError('NOT_NOW', undefined, whyNone(found, able));
  return queueRun(trx, now, {
    kind: 'drill',
    startedBy: by.person ? 'hand' : 'schedule',
    priority: 'last',
    name: by.name,
    person: by.person,
    rules: 'to places of their own, which are removed afterwards',
    tasks,
  });
}

function whyNone(found: readonly Drillable[], able: readonly Drillable[]): string {
  if (!found.length) return 'There is no point that could be brought back.';
  if (!able.length) return cannotDrill(found[0]!);
  return found.length === 1 ? `A drill of ${found[0]!.name} waits or runs already.` : 'Drills of all of them wait or run already.';
}

/** What a mover does in a drill. Throws POINT_GONE. */
export async function drillWork(trx: Knex.Transaction, secrets: Secrets, workloadId: number, task: DrillTask): Promise<DrillWork> {
  const [point] = await pointRefs(trx, secrets, [task.pointId], task.targetId);
  if (!point) throw new ApiError('POINT_GONE');
  const row = await trx('point')
    .where({ id: task.pointId })
    .first<{ items: number; bytes: number; facts: unknown; machine: unknown }>('items', 'bytes', 'facts', 'machine');
  const { kind, source_id } = await trx('workload')
    .where({ id: workloadId })
    .first<{ kind: KindName; source_id: number }>('kind', 'source_id');
  return {
    type: 'drill',
    point,
    room: await roomOf(trx, secrets, kind, source_id, row),
    checks: [...task.checks],
    objective: task.objective,
    patience: Math.min(Math.max(task.objective ?? usualPatience, 10), 3600),
    expected: { items: row.items, bytes: row.bytes },
  };
}

async function roomOf(
  trx: Knex.Transaction,
  secrets: Secrets,
  kind: KindName,
  sourceId: number,
  point: { readonly facts: unknown; readonly machine: unknown },
): Promise<DrillRoom> {
  if (kind === 'database') return { in: 'scratch', family: fromJson<DatabasePoint>(point.facts).family };
  if (!inTheirSystem.includes(kind)) return { in: 'folder' };
  const source = trx('source').where({ id: sourceId });
  if (kind === 'application') return { in: 'namespace', server: applicationOfRow(secrets, await source.first<SystemRow>(), '').server };
  const { host, folder } = fromJson<MachinePoint>(point.machine);
  return { in: 'machine', platform: platformRef(secrets, await source.first<PlatformRow>()), host, folder };
}
