import { strikeOut, type Struck, type StruckOutcome, type StruckTarget, type StruckWorkload } from '@lithodex/core';
import { priorities } from '@lithodex/contract';
import type { KindName } from '@lithodex/kinds';
import type { Knex } from 'knex';
import { policiesInForce } from '../../records/policies/matching';
import { measuredRate, readRate } from '../../records/runs/measured-rates';
import { drillPlans, lastDrills } from '../../records/trust/drill-rows';

/** Everything that striking something out is computed from. */
export interface Standing {
  readonly workloads: readonly (StruckWorkload & { readonly name: string; readonly kind: KindName; readonly system_name: string })[];
  readonly targets: readonly (StruckTarget & { readonly name: string; readonly envelopeAt: number | null })[];
  readonly systems: readonly { readonly id: number; readonly name: string; readonly site: string; readonly account: boolean }[];
  readonly movers: readonly { readonly site: string; readonly tasks: number }[];
}

interface WorkloadRow {
  readonly id: number;
  readonly name: string;
  readonly kind: KindName;
  readonly source_id: number;
  readonly source: string;
  readonly site: string | null;
  readonly bytes: number | string | null;
}

/** What there is, and where each point stands. */
export async function standingNow(db: Knex): Promise<Standing> {
  const workloads = await db('workload as w')
    .join('source as s', 's.id', 'w.source_id')
    .leftJoin('workload_points as n', 'n.workload_id', 'w.id')
    .whereNull('w.gone_at')
    .select<WorkloadRow[]>(
      'w.id',
      'w.name',
      'w.kind',
      's.id as source_id',
      's.name as source',
      db.raw("COALESCE(JSON_VALUE(w.facts, '$.location'), s.location) AS site"),
      'n.bytes',
    );
  const [urgencies, drills] = [await urgenciesOf(db), await lastDrills(db)];
  const usual = (await measuredRate(db)).rate;
  const targets = await db('target').select<{ id: string; name: string; location: string; envelope_at: number | null }[]>(
    'id',
    'name',
    'location',
    'envelope_at',
  );
  const stands = await standsOf(
    db,
    targets.map((t) => t.id),
  );
  const systems = await db('source').select<{ id: number; name: string; location: string; secret: Buffer | null }[]>(
    'id',
    'name',
    'location',
    'secret',
  );
  return {
    workloads: workloads.map((w) => {
      const drill = drills.get(w.id);
      return {
        id: w.id,
        name: w.name,
        kind: w.kind,
        system: String(w.source_id),
        system_name: w.source,
        site: w.site ?? '',
        bytes: Number(w.bytes ?? 0),
        urgency: urgencies.get(w.id) ?? 0,
        measuredMs: drill?.passed === 1 ? drill.usable_ms : null,
        stands: stands.get(w.id) ?? [],
      };
    }),
    targets: await Promise.all(
      targets.map(async ({ id, name, location, envelope_at }) => ({
        id,
        name,
        site: location,
        envelope: envelope_at !== null,
        envelopeAt: envelope_at,
        rate: (await readRate(db, id)) ?? usual,
      })),
    ),
    systems: systems.map(({ id, name, location, secret }) => ({ id, name, site: location, account: secret !== null })),
    movers: await moversNow(db),
  };
}

/** So many targets are told by the bits of one number. */
const bits = 50;

/**
 * Living points, by the targets that each stands on: those of logs stand with the fulls that they lead on from. Which they are is told by numbers, as grouping hundreds of thousands of copies by texts takes
 * twice as long.
 */
async function standsOf(db: Knex, targets: readonly string[]): Promise<Map<number, StruckWorkload['stands'][number][]>> {
  const stands = new Map<number, StruckWorkload['stands'][number][]>();
  if (!targets.length) return stands;
  const groups = Array.from({ length: Math.ceil(targets.length / bits) }, (_, i) => targets.slice(i * bits, (i + 1) * bits));
  const masks = groups.map((_, i) => `mask${i}`);
  // a target that is not in the group is its bit 0, which is left out
  const each = db('copy')
    .where({ state: 'present' })
    .groupBy('point_id')
    .select(
      'point_id',
      ...groups.map((ids, i) => db.raw(`BIT_OR((1 << FIELD(target_id, ${ids.map(() => '?').join(', ')})) & ~1) AS ${masks[i]!}`, [...ids])),
    )
    .as('each');
  const rows = await db(each)
    .join('point as p', 'p.id', 'each.point_id')
    .where({ 'p.state': 'visible' })
    .whereNot({ 'p.kind': 'log' })
    .groupBy('p.workload_id', ...masks)
    .select<({ workload_id: number; newest: number; points: number } & Record<string, number>)[]>(
      'p.workload_id',
      ...masks,
      db.raw('MAX(p.moment) AS newest'),
      db.raw('COUNT(*) AS points'),
    );
  for (const row of rows) {
    const on = groups.flatMap((ids, i) => ids.filter((_, bit) => Math.floor(Number(row[masks[i]!]) / 2 ** (bit + 1)) % 2 === 1));
    const own = stands.get(row.workload_id) ?? [];
    own.push({ targets: on, newest: Number(row.newest), points: Number(row.points) });
    stands.set(row.workload_id, own);
  }
  return stands;
}

/** By the priority of the policies that a workload belongs to, then by how much its drills count. */
async function urgenciesOf(db: Knex): Promise<Map<number, number>> {
  const rank = new Map((await policiesInForce(db)).map(({ id, body }) => [id, priorities.length - priorities.indexOf(body.priority)]));
  const urgencies = new Map<number, number>();
  const assigned = await db('assignment').select<{ policy_id: number; workload_id: number }[]>('policy_id', 'workload_id');
  for (const { policy_id, workload_id } of assigned)
    urgencies.set(workload_id, Math.max(urgencies.get(workload_id) ?? 0, 10 * (rank.get(policy_id) ?? 0)));
  for (const [id, { weight }] of await drillPlans(db)) urgencies.set(id, (urgencies.get(id) ?? 0) + weight);
  return urgencies;
}

const usualAtOnce = 2;

/** Movers that take work, where each is and how much at once. */
export const moversNow = (db: Knex): Promise<{ site: string; tasks: number }[]> =>
  db('mover').where({ drained: false }).select<{ site: string; tasks: number }[]>('place as site', 'tasks');

/** Movers that are left, and how many restores run side by side with them. A mover of which nobody said where it is stays. */
export function moversLeft(
  { movers }: Pick<Standing, 'movers'>,
  sites: ReadonlySet<string>,
): { readonly left: number; readonly atOnce: number } {
  const left = movers.filter((m) => m.site === '' || !sites.has(m.site));
  return { left: left.length, atOnce: left.reduce((sum, m) => sum + m.tasks, 0) || usualAtOnce };
}

const none: ReadonlySet<string> = new Set();

/** What becomes of each workload. */
export function struckOut(standing: Standing, struck: Partial<Struck>): StruckOutcome[] {
  const whole = { sites: none, systems: none, targets: none, keys: none, accounts: none, ...struck };
  return strikeOut(standing.workloads, standing.targets, whole, moversLeft(standing, whole.sites).atOnce);
}
