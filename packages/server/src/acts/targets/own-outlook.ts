import { grouped, whenBack } from '@lithodex/core';
import type { OwnOutlook } from '@lithodex/contract';
import type { KindName } from '@lithodex/kinds';
import type { Knex } from 'knex';
import { bodyOfStanding, type StandingRecord } from '../../records/recover/standing-rows';
import { measuredRate, readRate } from '../../records/runs/measured-rates';
import type { TargetRow } from '../../records/targets/target-rows';
import { lastDrills } from '../../records/trust/drill-rows';
import { moversLeft, moversNow } from '../trust/strike';

const mostTold = 500;

interface Stood {
  readonly id: number;
  readonly name: string;
  readonly kind: KindName;
  readonly newest: number;
  /** Of the newest point that holds all of it; null where none does. */
  readonly bytes: number | null;
}

/** What taking a store over would come to: what would be lost with its owner, and how long bringing everything back takes. */
export async function ownOutlook(db: Knex, target: TargetRow): Promise<OwnOutlook> {
  const stood = (await standing(db, target.id)).sort((a, b) => a.newest - b.newest || a.id - b.id);
  const ids = new Set(stood.map((w) => w.id));
  const tried = await triedOf(db, ids);
  const rate = (await readRate(db, target.id)) ?? (await measuredRate(db)).rate;
  const covered = new Set((await db('assignment').select<{ workload_id: number }[]>('workload_id')).map((a) => a.workload_id));
  const workloads = stood.map(({ id, name, kind, newest, bytes }) => {
    const bySize = rate !== null && bytes !== null ? Math.round((bytes / rate) * 1000) : null;
    const last = tried.get(id);
    return { id, name, kind, newest, takes: last?.ms ?? bySize, triedAt: last?.at ?? null, protectedHere: covered.has(id) };
  });
  const { atOnce } = moversLeft({ movers: await moversNow(db) }, new Set());
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
  const rows = await db('workload as w')
    .join(newest, 'n.workload_id', 'w.id')
    .leftJoin('workload_points as s', 's.workload_id', 'w.id')
    .select<Stood[]>('w.id', 'w.name', 'w.kind', 'n.newest', 's.bytes');
  return rows.map((r) => ({ ...r, newest: Number(r.newest), bytes: r.bytes === null ? null : Number(r.bytes) }));
}

async function pointsOf(db: Knex, targetId: string): Promise<number> {
  const { n } = await onTarget(db, targetId).count({ n: '*' }).first<{ n: number }>();
  return Number(n);
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
