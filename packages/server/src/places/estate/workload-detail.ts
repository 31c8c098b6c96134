import { spreadGaps, spreadOf, type Standing } from '@lithodex/core';
import type { Point, PointCopy, WorkloadDetail } from '@lithodex/contract';
import { decideCopies, presentCopies, toCopies } from '../../records/catalog/copies';
import { toPoint, type PointRow, type SeriesRow } from '../../records/catalog/points';
import { findDamage } from '../../acts/recover/find-damage';
import type { Deps } from '../../acts/deps';
import { found } from '../../base/errors';
import { policiesInForce, type PolicyRow } from '../../records/policies/matching';
import { allStartsBetween } from '../../records/policies/timetable';
import { KeepRules } from '../../acts/runs/expiry';
import { snapshotPoint, snapshotsOf } from '../../records/systems/snapshot-rows';
import { shownPlace } from '../../records/targets/target-rows';

const lookBackMs = 60 * 86_400_000;

/** One workload with all its points, what is missing among them, and the damage a suspect point found. */
export async function workloadDetail(deps: Deps, id: number): Promise<WorkloadDetail> {
  const { db, clock } = deps;
  const row = found((await deps.estate.rows(null)).find((w) => w.id === id));
  const facts = await db('workload as w')
    .join('source as s', 's.id', 'w.source_id')
    .where('w.id', id)
    .first<{ whole_server: 0 | 1; frozen: 0 | 1; read_as: string | null; read_by: string | null; readers: number | null }>(
      's.whole_server',
      'w.frozen',
      's.read_as',
      's.read_by',
      's.readers',
    );
  const series = await db('series').where({ workload_id: id }).orderBy('no').select<SeriesRow[]>();
  const places = await db('target').select<Place[]>('id', 'name', 'location', 'folder', 'address');
  const targets = new Map(places.map((t) => [t.id, t.name]));
  const names = new Map((await db('policy').select<{ id: number; name: string }[]>('id', 'name')).map((p) => [p.id, p.name]));
  const points: WorkloadDetail['pointList'] = [];
  let damage: WorkloadDetail['damage'] = null;
  const keeps = await KeepRules.read(db);
  for (const s of series) {
    const rows = await db('point').where({ series_no: s.no, state: 'visible' }).orderBy('ordinal').select<PointRow[]>();
    const ids = rows.map((p) => p.id);
    const copies = await presentCopies(db, ids);
    const decisions = decideCopies(s, rows, copies, keeps.of(s, rows), clock.now(), facts.frozen === 1);
    const moments = new Map(rows.map((p) => [p.id, p.moment]));
    points.push(
      ...rows.map((p) =>
        toPoint(p, {
          seriesId: s.id,
          copies: toCopies(s, p, copies.get(p.id) ?? [], decisions, targets),
          policy: p.policy_id === null ? null : (names.get(p.policy_id) ?? null),
          buildsOn: p.builds_on === null ? null : (moments.get(p.builds_on) ?? null),
        }),
      ),
    );
    damage ??= await damageOf(deps, rows);
  }
  points.sort((a, b) => a.moment - b.moment);
  const policies = (await policiesInForce(db)).filter((p) => row.policies.some((q) => q.id === p.id));
  const spread = spreadAnswer(newestCopies(points), places, row.source.location, clock.now());
  const missing = await missingOf(deps, id, policies, points);
  const sums = { allBytes: points.reduce((a, p) => a + p.bytes, 0), storedBytes: points.reduce((a, p) => a + p.stored, 0) };
  points.push(...(await snapshotsOf(db, id)).map(snapshotPoint));
  points.sort((a, b) => a.moment - b.moment);
  return {
    ...row,
    wholeServer: facts.whole_server === 1,
    readAs: facts.read_as,
    readBy: facts.read_by,
    readers: facts.readers,
    frozen: facts.frozen === 1,
    seriesId: series[0]?.id ?? null,
    ...sums,
    pointList: points,
    missing,
    damage,
    spread,
  };
}

interface Place {
  readonly id: string;
  readonly name: string;
  readonly location: string;
  readonly folder: string | null;
  readonly address: unknown;
}

/** Where the newest sound data stands: a full that was put together holds the same as the point it was made of. */
function newestCopies(points: readonly Point[]): PointCopy[] {
  const newest = points.findLast((p) => !p.suspect);
  const alike = points.filter((p) => !p.suspect && p.moment === newest?.moment);
  return [...new Map(alike.flatMap((p) => p.copies.map((c) => [c.targetId, c] as const))).values()];
}

function spreadAnswer(copies: readonly PointCopy[], places: readonly Place[], origin: string, now: number): WorkloadDetail['spread'] {
  if (!copies.length) return null;
  const standings = copies.flatMap((c): Standing[] => {
    const place = places.find((p) => p.id === c.targetId);
    if (!place) return [];
    const media = shownPlace(place).kind;
    // a lock on a disk is kept by the store alone, so it does not count as one that nobody can break
    return [{ media, location: place.location, locked: media === 'bucket' && (c.lockedUntil ?? 0) > now }];
  });
  const spread = spreadOf(standings, origin);
  return { ...spread, elsewhere: spread.elsewhere ?? null, gaps: spreadGaps(spread) };
}

/** What the newest suspect point found damaged, against the last good point before it. */
async function damageOf(deps: Deps, rows: readonly PointRow[]): Promise<WorkloadDetail['damage']> {
  const suspect = rows.findLast((p) => p.suspect === 1);
  const damage = suspect && (await findDamage(deps.db, suspect));
  if (!damage) return null;
  const { items, good } = damage;
  return { pointId: suspect.id, goodPointId: good.id, files: items.length, bytes: items.reduce((sum, i) => sum + i.size, 0) };
}

/** Scheduled moments without a point near them, over the last weeks. */
async function missingOf(
  deps: Deps,
  workloadId: number,
  policies: readonly PolicyRow[],
  points: WorkloadDetail['pointList'],
): Promise<WorkloadDetail['missing']> {
  const now = deps.clock.now();
  const missing: WorkloadDetail['missing'] = [];
  const first = points[0]?.moment;
  if (first === undefined) return missing;
  const failed = await deps
    .db('task')
    .where({ workload_id: workloadId, type: 'backup' })
    .whereIn('state', ['failed', 'stopped', 'cutOff', 'notStarted'])
    .where('queued_at', '>', now - lookBackMs)
    .select<{ queued_at: number }[]>('queued_at');
  for (const { body, timetables } of policies) {
    // what a log lacks is told by its band
    const taken = timetables.filter((t) => body.rules.find((r) => r.no === t.rule)?.kind !== 'log');
    const due = allStartsBetween(body, taken, Math.max(first, now - lookBackMs), now);
    // the newest one may still be at work
    for (const [i, moment] of due.slice(0, -1).entries()) {
      const next = due[i + 1]!;
      if (points.some((p) => p.kind !== 'log' && p.moment >= moment && p.moment < next)) continue;
      const failure = failed.some((f) => f.queued_at >= moment && f.queued_at < next);
      missing.push({ moment, why: failure ? 'the run failed' : 'there is no point' });
    }
  }
  return missing;
}
