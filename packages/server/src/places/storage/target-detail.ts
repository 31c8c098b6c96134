import type { CopiesMatrix, PriceTable, Target, TargetDetail, Use, PaceWindow } from '@lithodex/contract';
import type { Knex } from 'knex';
import { fromJsonOrNull } from '../../base/db/json';
import type { Deps } from '../../acts/deps';
import { countOnlyHere } from '../../records/targets/only-here';
import { outlookFor, samplesOf, type Outlook } from '../../acts/targets/room';
import { takenOver } from '../../acts/targets/settle';
import { shownPlace, type TargetRow } from '../../records/targets/target-rows';

const dayMs = 86_400_000;

interface Sum {
  readonly points: number;
  readonly bytes: number;
  readonly stored: number;
  /** Moment of the newest of them. */
  readonly newest: number | null;
}

/** What the points on each target amount to. */
export async function targetSums(db: Knex): Promise<Map<string, Sum>> {
  const rows = await db('copy as c')
    .join('point as p', 'p.id', 'c.point_id')
    .where('c.state', 'present')
    .groupBy('c.target_id')
    .select<(Sum & { target_id: string })[]>(
      'c.target_id',
      db.raw('COUNT(*) AS points, SUM(p.bytes) AS bytes, SUM(c.stored) AS stored, MAX(p.moment) AS newest'),
    );
  return new Map(
    rows.map((r) => [r.target_id, { points: Number(r.points), bytes: Number(r.bytes), stored: Number(r.stored), newest: r.newest }]),
  );
}

/** A target as the API gives it. */
export function toTarget(t: TargetRow, sum: Sum | undefined, outlook: Outlook | undefined): Target {
  return {
    id: t.id,
    name: t.name,
    place: shownPlace(t),
    location: t.location,
    used: t.used,
    free: t.free,
    measuredAt: t.measured_at,
    prunedAt: t.pruned_at,
    verifiedAt: t.verified_at,
    points: sum?.points ?? 0,
    allBytes: sum?.bytes ?? 0,
    storedBytes: sum?.stored ?? 0,
    outlook: outlookOf(outlook),
    paces: fromJsonOrNull<PaceWindow[]>(t.paces) ?? [],
    writers: t.writers,
    newestFiles: t.newest_files === 1,
    settingsAt: t.settings_at,
    settingsHeld: t.settings_held === 1,
    envelopeAt: t.envelope_at,
    follows: t.follows_every === null ? null : { every: t.follows_every, readAt: t.followed_at, newest: sum?.newest ?? null },
    ownedElsewhere: t.owned_elsewhere,
    followed: fromJsonOrNull<number[]>(t.followed_by) ?? [],
    retiredTo: t.retired_to,
    prices: fromJsonOrNull<PriceTable>(t.prices),
    trouble: t.trouble,
  };
}

function outlookOf(o: Outlook | undefined): Target['outlook'] {
  if (!o?.forecast || !o.fill) return null;
  const at = (instant: number | undefined) => (instant === undefined ? null : Math.round(instant));
  const { expected, earliest, latest } = o.fill;
  return { perDay: o.forecast.perDay, expected: at(expected), earliest: at(earliest), latest: at(latest), estimated: o.forecast.estimated };
}

const ages: readonly [days: number, name: string][] = [
  [7, 'up to a week old'],
  [31, 'up to a month'],
  [92, 'up to three months'],
  [366, 'up to a year'],
  [Infinity, 'older'],
];

/** All that the page of a target shows. */
export async function detailOf(deps: Deps, t: TargetRow): Promise<TargetDetail> {
  const { db, clock } = deps;
  type Row = {
    moment: number;
    bytes: number;
    stored: number;
    locked_until: number | null;
    wid: number;
    workload: string;
    pid: number | null;
    policy: string | null;
  };
  const rows = await db('copy as c')
    .join('point as p', 'p.id', 'c.point_id')
    .join('workload as w', 'w.id', 'p.workload_id')
    .leftJoin('policy as y', 'y.id', 'p.policy_id')
    .where({ 'c.target_id': t.id, 'c.state': 'present' })
    .select<Row[]>(
      'p.moment',
      'p.bytes',
      'c.stored',
      'c.locked_until',
      'w.id as wid',
      'w.name as workload',
      'y.id as pid',
      'y.name as policy',
    );
  const now = clock.now();
  const locked = rows.filter((r) => (r.locked_until ?? 0) > now);
  const days = (r: Row) => (now - r.moment) / dayMs;
  return {
    ...toTarget(
      t,
      {
        points: rows.length,
        bytes: rows.reduce((s, r) => s + r.bytes, 0),
        stored: rows.reduce((s, r) => s + r.stored, 0),
        newest: rows.reduce<number | null>((newest, r) => Math.max(newest ?? r.moment, r.moment), null),
      },
      await outlookFor(deps, t),
    ),
    samples: await samplesOf(deps, t.id),
    use: {
      workloads: summed(rows, (r) => [r.workload, r.wid]),
      policies: summed(rows, (r) => [r.policy ?? 'on demand', r.pid]),
      ages: ages.flatMap(([, name], i) =>
        summed(
          rows.filter((r) => days(r) <= ages[i]![0] && days(r) > (ages[i - 1]?.[0] ?? -1)),
          () => [name, null],
        ),
      ),
    },
    onlyHere: await countOnlyHere(db, t.id),
    takenOver: (await takenOver(db, t.id)).length,
    locked: { points: locked.length, until: locked.length ? Math.max(...locked.map((r) => r.locked_until!)) : null },
    young: rows
      .map((r) => ({ days: days(r), stored: r.stored }))
      .filter((r) => r.days < (fromJsonOrNull<PriceTable>(t.prices)?.leastDays ?? 0)),
  };
}

function summed<R extends { bytes: number; stored: number }>(
  rows: readonly R[],
  keyOf: (row: R) => [name: string, id: number | null],
): Use[] {
  const sums = new Map<string, Use>();
  for (const row of rows) {
    const [name, id] = keyOf(row);
    const key = `${id} ${name}`;
    const sum = sums.get(key) ?? { name, id, points: 0, stored: 0, bytes: 0 };
    sums.set(key, { ...sum, points: sum.points + 1, stored: sum.stored + row.stored, bytes: sum.bytes + row.bytes });
  }
  return [...sums.values()].sort((a, b) => b.stored - a.stored);
}

/** Where the points of each workload stand: a row a workload, a cell a target. */
export async function matrixOf(db: Knex): Promise<CopiesMatrix> {
  const targets = await db('target').orderBy('created_at').select<{ id: string; name: string }[]>('id', 'name');
  const workloads = await db('workload').orderBy('name').select<{ id: number; name: string }[]>('id', 'name');
  type Row = { workload_id: number; target_id: string; n: number; newest: number; oldest: number; locked: number | null };
  const rows = await db('copy as c')
    .join('point as p', 'p.id', 'c.point_id')
    .where('c.state', 'present')
    .groupBy('p.workload_id', 'c.target_id')
    .select<Row[]>(
      'p.workload_id',
      'c.target_id',
      db.raw('COUNT(*) AS n, MAX(p.moment) AS newest, MIN(p.moment) AS oldest, MAX(c.locked_until) AS locked'),
    );
  const byPlace = new Map(rows.map((r) => [`${r.workload_id} ${r.target_id}`, r]));
  return {
    targets,
    rows: workloads.map((workload) => ({
      workload,
      cells: targets.map((t) => {
        const cell = byPlace.get(`${workload.id} ${t.id}`);
        return {
          points: Number(cell?.n ?? 0),
          newest: cell?.newest ?? null,
          oldest: cell?.oldest ?? null,
          lockedUntil: cell?.locked ?? null,
        };
      }),
    })),
  };
}
