import { countOf, longestGap, nextRuns, windowAt } from '@lithodex/core';
import type { Consequences, PolicyBody } from '@lithodex/contract';
import type { Knex } from 'knex';
import type { Deps } from '../../acts/deps';
import { fitOfDraft } from '../../acts/plan/night-fit';
import { decideCopies, presentCopies } from '../../records/catalog/copies';
import { livingPoints, type SeriesRow } from '../../records/catalog/points';
import { cautionsOf } from './cautions';
import { brokenBy, lossOf, lossText, withoutPromises, type Broken } from '../../acts/policies/promises';
import { policiesInForce, type PolicyRow } from '../../records/policies/matching';
import { matchesShown } from '../../acts/estate/matching-shown';
import { limitOfAll } from '../../records/movers/admission';
import { KeepRules } from '../../acts/runs/expiry';
import { heldWarnings } from './held-warnings';
import { logWarnings } from './log-warnings';
import { partWarnings } from './part-warnings';
import { settledOf } from '../../acts/policies/settled-rules';
import { nextStarts, timetablesOf, type PolicyTimetable } from '../../records/policies/timetable';

const hourMs = 3_600_000;

/** What a draft would do, worked out from what is measured and what stands now. */
export async function consequencesOf(deps: Deps, id: number | null, body: PolicyBody): Promise<Consequences> {
  const { db, clock } = deps;
  const now = clock.now();
  const matches = await matchesShown(deps, body);
  const ids = matches.map((m) => m.id);
  const inForce = await policiesInForce(db);
  const assigned = await db('assignment as a')
    .join('workload as w', 'w.id', 'a.workload_id')
    .where('a.policy_id', id ?? 0)
    .orderBy('w.name')
    .select<{ id: number; name: string }[]>('w.id', 'w.name');
  const others = await Promise.all(
    inForce
      .filter((p) => p.id !== id)
      .map(async (p) => ({ name: p.name, ids: new Set((await matchesShown(deps, p.body)).map((m) => m.id)) })),
  );
  const current = inForce.find((p) => p.id === id);
  const timetables = timetablesOf(body, inForce);
  const target = await db('target').where({ id: body.rules[0]!.targetId }).first<{ name: string; free: number | null } | undefined>();
  const measured = await measure(deps, ids);
  const broken = id === null ? [] : await brokenBy(db, now, id, body);
  const result: Consequences = {
    matches: matches.map((m) => ({
      ...m,
      alsoBy: others.filter((o) => o.ids.has(m.id)).map((o) => o.name),
      fresh: id !== null && !assigned.some((a) => a.id === m.id),
    })),
    gone: assigned.filter((a) => !ids.includes(a.id)),
    zone: body.zone,
    nextRuns: nextStarts(body, timetables, now, 5),
    settled: settledOf(body, timetables, now),
    settledNow: current ? settledOf(current.body, current.timetables, now) : null,
    deletes: await deletesOf(deps, id, ids, body, now, broken),
    leftOut: [
      ...body.exclude.map((path) => ({ path, why: 'left out by this policy' })),
      ...(await targetsInside(db, ids)).map((t) => ({ path: t.folder, why: `the folder of target ${t.name}, left out by itself` })),
    ],
    measured: { ...measured, targetFree: target?.free ?? null },
    secondPerson: lossText(lossOf(broken)),
    fit: await fitOfDraft(deps, id, body),
    ...(await cautionsOf(deps, ids, body)),
  };
  result.warnings.unshift(
    ...warningsOf(result, body, target !== undefined, timetables),
    ...(await sharedRankWarning(deps, id, ids, body)),
    ...(await logWarnings(deps, body, result.matches)),
    ...partWarnings(body.rules),
    ...(await heldWarnings(deps, ids)),
    ...(await firstPointWarning(deps, ids, result.nextRuns[0], body)),
    ...timeWarnings(
      body,
      timetables,
      inForce.filter((p) => p.id !== id),
    ),
  );
  return result;
}

/** What does not go together in when it runs. */
function timeWarnings(body: PolicyBody, timetables: readonly PolicyTimetable[], others: readonly PolicyRow[]): Consequences['warnings'] {
  const warnings: Consequences['warnings'] = [];
  const { window, zone, priority, rules } = body;
  // some days in which no zone changes its clocks
  const own = timetables.filter((t) => rules.some((r) => r.no === t.rule && r.schedule.every !== 'after'));
  const starts = own.flatMap((t) => nextRuns({ ...t, closed: [] }, Date.UTC(2027, 0, 4), 8));
  const outside = window ? starts.filter((at) => !windowAt(window, zone, at).open).length : 0;
  if (outside)
    warnings.push({
      code: 'OUTSIDE_WINDOW',
      text: body.catchUp
        ? 'Some runs come due while its window is closed; they wait until it opens.'
        : 'Some runs come due while its window is closed, and as nothing is made good they do not take place.',
    });
  const leading = others.filter((p) => p.body.priority === 'first').length;
  if (priority === 'first' && leading > others.length / 2)
    warnings.push({
      code: 'ALL_FIRST',
      text: `${leading} of ${others.length} other policies go first as well: where most go first, none does.`,
    });
  return warnings;
}

/** Workloads without any point that would have to wait longer for their first one than points may be old. */
async function firstPointWarning(
  deps: Deps,
  ids: readonly number[],
  next: number | undefined,
  { objectiveHours }: PolicyBody,
): Promise<Consequences['warnings']> {
  const waits = next === undefined ? Infinity : next - deps.clock.now();
  if (waits <= objectiveHours * hourMs) return [];
  const known = await deps
    .db('workload_points')
    .whereIn('workload_id', ids)
    .where('points', '>', 0)
    .count({ n: '*' })
    .first<{ n: number }>();
  const bare = ids.length - Number(known?.n);
  if (!bare) return [];
  const when = next === undefined ? 'and no run is planned' : `and the first run is ${Math.ceil(waits / (24 * hourMs))} days away`;
  const text = `${countOf(bare, 'workload')} ${bare === 1 ? 'has' : 'have'} no point yet, ${when}. Run it once by hand when it is in force.`;
  return [{ code: 'FIRST_POINT_LATE', text }];
}

/** Targets whose folder lies in the source of one of these workloads. */
async function targetsInside(db: Knex, ids: readonly number[]): Promise<{ folder: string; name: string }[]> {
  const targets = await db('target').whereNotNull('folder').select<{ folder: string; name: string }[]>('folder', 'name');
  const sources = await db('workload as w')
    .join('source as s', 's.id', 'w.source_id')
    .whereIn('w.id', ids)
    .where('s.kind', 'files')
    .select<{ folder: string }[]>('s.folder');
  return targets.filter((t) => sources.some((s) => `${t.folder}/`.startsWith(s.folder === '/' ? '/' : `${s.folder}/`)));
}

async function measure(deps: Deps, ids: readonly number[]): Promise<Omit<Consequences['measured'], 'targetFree'>> {
  if (!ids.length) return { runs: 0, sizeBytes: 0, newBytesPerRun: null, nightMs: null };
  type Row = { workload_id: number; bytes: number; stored: number; moment: number; builds_on: string | null };
  const points = await deps
    .db('point')
    .whereIn('workload_id', ids)
    .where({ state: 'visible', suspect: false })
    .orderBy('moment', 'desc')
    .limit(3000)
    .select<Row[]>('workload_id', 'bytes', 'stored', 'moment', 'builds_on');
  const newest = new Map<number, number>();
  for (const p of points) if (!newest.has(p.workload_id)) newest.set(p.workload_id, p.bytes);
  const later = points.filter((p) => p.builds_on !== null);
  const perWorkload = later.length ? later.reduce((a, p) => a + p.stored, 0) / later.length : null;
  const sizes = [...newest.values()].reduce((a, b) => a + b, 0);
  const times = await deps
    .db('task')
    .whereIn('workload_id', ids)
    .where({ type: 'backup' })
    .whereIn('state', ['done', 'remarks', 'partsMissing'])
    .orderBy('ended_at', 'desc')
    .limit(500)
    .select<{ started_at: number; ended_at: number }[]>('started_at', 'ended_at');
  const average = times.length ? times.reduce((a, t) => a + t.ended_at - t.started_at, 0) / times.length : null;
  return {
    runs: points.length,
    sizeBytes: sizes,
    newBytesPerRun: perWorkload === null ? null : perWorkload * ids.length,
    nightMs: average === null ? null : average * ids.length,
  };
}

async function deletesOf(
  deps: Deps,
  id: number | null,
  ids: readonly number[],
  body: PolicyBody,
  now: number,
  broken: readonly Broken[],
): Promise<Consequences['deletes']> {
  const gone: number[] = [];
  const workloads = new Set<string>();
  if (id !== null) {
    const serieses = await deps
      .db('series as s')
      .join('workload as w', 'w.id', 's.workload_id')
      .whereIn('s.workload_id', ids)
      .whereIn(
        's.target_id',
        body.rules.map((r) => r.targetId),
      )
      .select<(SeriesRow & { name: string; frozen: 0 | 1 })[]>('s.*', 'w.name', 'w.frozen');
    const keeps = await KeepRules.read(deps.db, { id, body });
    for (const series of serieses) {
      const points = await livingPoints(deps.db, series.no);
      const standing = withoutPromises(
        await presentCopies(
          deps.db,
          points.map((p) => p.id),
        ),
        broken,
      );
      const decisions = decideCopies(series, points, standing, keeps.of(series, points), now, series.frozen === 1).get(series.target_id);
      for (const p of points)
        if (p.policy_id === id && decisions?.get(p.id)?.expires) {
          gone.push(p.moment);
          workloads.add(series.name);
        }
    }
  }
  return {
    points: gone.length,
    oldest: gone.length ? Math.min(...gone) : null,
    newest: gone.length ? Math.max(...gone) : null,
    workloads: [...workloads],
  };
}

/** All first is none first: says how many workloads share the first rank where movers can not take them all at once. */
async function sharedRankWarning(
  deps: Deps,
  id: number | null,
  ids: readonly number[],
  body: PolicyBody,
): Promise<Consequences['warnings']> {
  if (body.priority !== 'first') return [];
  const others = (await policiesInForce(deps.db)).filter((p) => p.id !== id && p.body.priority === 'first').map((p) => p.id);
  const assigned = await deps
    .db('assignment')
    .whereIn('policy_id', others)
    .distinct('workload_id')
    .select<{ workload_id: number }[]>('workload_id');
  const sharing = new Set([...ids, ...assigned.map((a) => a.workload_id)]).size;
  const movers = await deps
    .db('mover')
    .where({ drained: false })
    .whereIn('name', deps.movers.present())
    .select<{ tasks: number }[]>('tasks');
  const slots = Math.min(
    (await limitOfAll(deps.db)) ?? Infinity,
    movers.reduce((sum, m) => sum + m.tasks, 0),
  );
  if (sharing <= slots) return [];
  const text = `${countOf(sharing, 'workload')} share the first rank, and the movers take ${slots} at once: where all are first, none is.`;
  return [{ code: 'SHARED_RANK', text }];
}

function warningsOf(
  c: Consequences,
  body: PolicyBody,
  hasTarget: boolean,
  timetables: readonly PolicyTimetable[],
): Consequences['warnings'] {
  const warnings: Consequences['warnings'] = [];
  const warn = (code: string, text: string) => warnings.push({ code, text });
  if (!hasTarget) warn('NO_TARGET', 'The target does not exist (any more). Choose one.');
  if (!c.matches.length) warn('MATCHES_NOTHING', 'It matches no workload, so it protects nothing.');
  const gapHours = Math.min(...timetables.map((t) => longestGap(t.schedule))) / hourMs;
  if (Number.isFinite(gapHours) && gapHours > body.objectiveHours)
    warn(
      'OBJECTIVE_MISSED',
      `Runs come up to ${Math.round(gapHours)} h apart, but the newest point may be at most ${body.objectiveHours} h old.`,
    );
  if (body.rules.every((r) => r.schedule.every === 'hand')) warn('BY_HAND', 'It runs only when a person starts it.');
  if (c.secondPerson) warn('SECOND_PERSON', `Another administrator has to agree: ${c.secondPerson}.`);
  for (const { keep, lockDays } of body.rules.flatMap((r) => [r, ...r.copies]))
    if (lockDays && keep.by === 'days' && keep.days < lockDays)
      warn('LOCK_OUTLASTS', `Points are kept for ${keep.days} days but locked for ${lockDays}, so they stay for ${lockDays}.`);
  if (c.deletes.points) warn('DELETES', `Putting it in force deletes ${c.deletes.points} points at once.`);
  if (body.rules.some((r) => r.keep.by === 'hand')) warn('GROWS', 'Nothing is ever removed, so the target fills up in the end.');
  return warnings;
}
