import { grouped, whenBack } from '@lithodex/core';
import type { OwnOutlook } from '@lithodex/contract';
import type { KindName } from '@lithodex/kinds';
import type { Knex } from 'knex';
import { bodyOfStanding, type StandingRecord } from '../../records/recover/standing-rows';
import { measuredRate, readRate } from '../../records/runs/measured-rates';
import type { TargetRow } from '../../records/targets/target-rows';
import { lastDrills } from '../../records/trust/drill-rows';

const mostTold = 500;
/** Restores that run side by side where no mover is known. */
const usualAtOnce = 2;

interface Stood {
  readonly id: number;
  readonly name: string;
  readonly kind: KindName;
  readonly newest: number;
}

/** What taking a store over would come to: what would be lost with its owner, and how long bringing everything back takes. */
export async function ownOutlook(db: Knex, target: TargetRow): Promise<OwnOutlook> {
  const stood = (await standing(db, target.id)).sort((a, b) => a.newest - b.newest || a.id - b.id);
  const ids = new Set(stood.map((w) => w.id));
  const sizes = await sizesOf(db, stood);
  const tried = await triedOf(db, ids);
  const rate = (await readRate(db, target.id)) ?? (await measuredRate(db)).rate;
  const covered = new Set((await db('assignment').select<{ workload_id: number }[]>('workload_id')).map((a) => a.workload_id));
  const workloads = stood.map(({ id, name, kind, newest }) => {
    const bytes = sizes.get(id);
    const bySize = rate !== null && bytes !== undefined ? Math.round((bytes / rate) * 1000) : null;
    const last = tried.get(id);
    return { id, name, kind, newest, takes: last?.ms ?? bySize, triedAt: last?.at ?? null, protectedHere: covered.has(id) };
  });
  const atOnce = await sideBySide(db);
  const known = workloads.flatMap(({ id, takes: ms }) => (ms === null ? [] : [{ id, ms }]));
  const unknown = workloads.length - known.length;
  const ends = [...whenBack(known, atOnce).values()].map((end) => end ?? 0);
  return {
    readAt: target.followed_at,
    points: await pointsOf(db, target.id),
    workloads: workloads.slice(0, mostTold),
    all: workloads.length,
    back: { ms: unknown ? null : Math.max(0, ...ends), atOnce, unknown },
    repeats: await repeatsOf(db, ids),
  };
}

const onTarget = (db: Knex, targetId: string) =>
  db('copy as c').join('point as p', 'p.id', 'c.point_id').where({ 'c.target_id': targetId, 'c.state': 'present', 'p.state': 'visible' });

async function standing(db: Knex, targetId: string): Promise<Stood[]> {
  const newest = onTarget(db, targetId).groupBy('p.workload_id').select('p.workload_id', db.raw('MAX(p.moment) AS newest')).as('n');
  const rows = await db('workload as w').join(newest, 'n.workload_id', 'w.id').select<Stood[]>('w.id', 'w.name', 'w.kind', 'n.newest');
  return rows.map((r) => ({ ...r, newest: Number(r.newest) }));
}

async function pointsOf(db: Knex, targetId: string): Promise<number> {
  const { n } = await onTarget(db, targetId).count({ n: '*' }).first<{ n: number }>();
  return Number(n);
}

/** Bytes of the newest point that holds all of a workload. */
async function sizesOf(db: Knex, stood: readonly Stood[]): Promise<Map<number, number>> {
  const sizes = new Map<number, number>();
  for (let from = 0; from < stood.length; from += 1000) {
    const ids = stood.slice(from, from + 1000).map((w) => w.id);
    const rows = await db('workload_points')
      .whereIn('workload_id', ids)
      .select<{ workload_id: number; bytes: number | string | null }[]>('workload_id', 'bytes');
    for (const { workload_id, bytes } of rows) if (bytes !== null) sizes.set(workload_id, Number(bytes));
  }
  return sizes;
}

/** When workloads were brought back here last and how long that took: by drills that passed, and by restores that are repeated. */
async function triedOf(db: Knex, ids: ReadonlySet<number>): Promise<Map<number, { readonly at: number; readonly ms: number }>> {
  const tried = new Map<number, { at: number; ms: number }>();
  const note = (id: number, at: number, ms: number) => {
    if (ids.has(id) && (tried.get(id)?.at ?? 0) < at) tried.set(id, { at, ms });
  };
  for (const d of (await lastDrills(db)).values()) if (d.passed === 1 && d.usable_ms !== null) note(d.workload_id, d.at, d.usable_ms);
  type Row = { run: number; workload: number | null; begun: number | null; ended: number | null };
  const rows = await db('task as t')
    .join('run as r', 'r.id', 't.run_id')
    .whereNotNull('r.standing_no')
    .where({ 't.type': 'restore', 't.state': 'done' })
    .orderBy('t.ended_at', 'desc')
    .limit(2000)
    .select<Row[]>('r.id as run', 't.workload_id as workload', 't.started_at as begun', 't.ended_at as ended');
  for (const tasks of grouped(rows, (r) => `${r.run} ${r.workload}`).values()) {
    const [first] = tasks;
    const workload = first?.workload ?? null;
    if (workload === null || tasks.some((t) => t.begun === null || t.ended === null)) continue;
    const ended = Math.max(...tasks.map((t) => t.ended!));
    note(workload, ended, ended - Math.min(...tasks.map((t) => t.begun!)));
  }
  return tried;
}

async function sideBySide(db: Knex): Promise<number> {
  const movers = await db('mover').where({ drained: false }).select<{ tasks: number }[]>('tasks');
  return movers.reduce((sum, m) => sum + m.tasks, 0) || usualAtOnce;
}

async function repeatsOf(db: Knex, ids: ReadonlySet<number>): Promise<OwnOutlook['repeats']> {
  const rows = await db('standing_restore').where({ ended: false }).orderBy('name').select<StandingRecord[]>();
  const found: OwnOutlook['repeats'] = [];
  for (const row of rows) {
    const own = bodyOfStanding(row).workloads.filter((id) => ids.has(id));
    if (!own.length) continue;
    const last = await db('run')
      .where({ standing_no: row.no })
      .orderBy('id', 'desc')
      .first<{ queued_at: number; state: OwnOutlook['repeats'][number]['state'] } | undefined>('queued_at', 'state');
    found.push({ id: row.no, name: row.name, workloads: own.length, lastAt: last?.queued_at ?? null, state: last?.state ?? null });
  }
  return found;
}
