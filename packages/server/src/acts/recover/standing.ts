import { countOf, runsBetween } from '@lithodex/core';
import type { RestoreBody, StandingBody } from '@lithodex/contract';
import type { Knex } from 'knex';
import { DateTime } from 'luxon';
import { inTransaction } from '../../base/db/open';
import { ApiError } from '../../base/errors';
import type { Actor } from '../../base/http/access';
import type { PointRow } from '../../records/catalog/points';
import { bodyOfStanding, broughtBefore, madeBefore, timetableOf, type StandingRecord } from '../../records/recover/standing-rows';
import type { Deps } from '../deps';
import { plannerFor } from '../kinds/planner-for';
import { queueRun } from '../runs/queue';
import { resolvePicks } from './resolve-picks';
import type { Check, RestoreTask } from './restore-planner';

/** Who acts where nobody is there: what it may was decided when somebody set it up. */
export const actorFor = (key: string, person: string): Actor => ({
  key,
  name: person,
  display: person,
  role: 'administrator',
  remit: null,
  by: 'token',
  personId: null,
  tokenId: null,
  duties: [],
  mover: null,
  systems: null,
});

const folderName = (text: string) => text.replace(/[/\0]/g, '_').replace(/^\.+$/, '_');

/** Points that are neither suspect nor infected, and stand for all of their workload. */
const soundPoints = (db: Knex) =>
  db('point as p')
    .join('series as s', 's.no', 'p.series_no')
    .where({ 's.method': 'files', 'p.state': 'visible', 'p.suspect': 0 })
    .whereNotExists(db('point_scan as x').whereRaw('x.point_id = p.id').where('x.infected', '>', 0));

/** Those that are also not in parts. */
const goodPoints = (db: Knex) => soundPoints(db).where({ 'p.complete': 1 });

async function newestOf(deps: Deps, points: Knex.QueryBuilder, workloadId: number): Promise<PointRow> {
  const newest = await points.where({ 'p.workload_id': workloadId }).orderBy('p.moment', 'desc').first<PointRow | undefined>('p.*');
  if (newest) return newest;
  const workload = await deps.db('workload').where({ id: workloadId }).first<{ name: string } | undefined>('name');
  const others = await deps.db('point').where({ workload_id: workloadId, state: 'visible' }).first<object | undefined>('id');
  const why = others ? ': each is suspect, in parts, or something infected was found in it' : '';
  throw new ApiError('NOT_NOW', undefined, `There is no good point of ${workload?.name ?? 'a workload that is gone'}${why}.`);
}

/** The newest good point of a workload. Throws NOT_NOW where there is none. */
const newestGood = (deps: Deps, workloadId: number) => newestOf(deps, goodPoints(deps.db), workloadId);

/** The newest point of a workload that is neither suspect nor infected, also one that did not see everything: days of work are lost with an older one. Throws NOT_NOW where there is none. */
export const newestSound = (deps: Deps, workloadId: number): Promise<PointRow> => newestOf(deps, soundPoints(deps.db), workloadId);

/** The restore of one workload as a person would ask for it. */
function restoreOf(body: StandingBody, workload: string, point: PointRow, stamp: string): RestoreBody {
  const { destination } = body;
  const places = {
    folder: () => ({ to: 'folder' as const, folder: `${folderOf(body, workload)}/${stamp}`, keepPath: false, exceptions: [] }),
    platform: () => ({ ...(destination as Extract<StandingBody['destination'], { to: 'platform' }>), exceptions: [] }),
    cloud: () => ({ ...(destination as Extract<StandingBody['destination'], { to: 'cloud' }>), exceptions: [] }),
    server: () => destination as Extract<StandingBody['destination'], { to: 'server' }>,
  };
  return {
    name: body.name,
    picks: [{ pointId: point.id, path: '' }],
    destination: places[destination.to](),
    until: null,
    rule: destination.to === 'server' ? 'replace' : 'leave',
    start: body.start,
    readFrom: null,
    rescue: false,
    reason: body.reason,
    despiteInfected: false,
    // who set it up saw where it goes
    leavesPlace: true,
    trial: false,
  };
}

function folderOf({ destination }: StandingBody, workload: string): string {
  return destination.to === 'folder' ? `${destination.folder.replace(/(.)\/+$/, '$1')}/${folderName(workload)}` : '';
}

/** The workloads of which there is a newer good point than was brought. */
async function withNewer(deps: Deps, row: StandingRecord): Promise<readonly number[]> {
  const brought = broughtBefore(row);
  // this is asked in every round: what was there before is not looked at again
  const newer = await goodPoints(deps.db)
    .where((q) => {
      for (const id of bodyOfStanding(row).workloads)
        void q.orWhere((w) => void w.where({ 'p.workload_id': id }).where('p.moment', '>', brought[String(id)] ?? 0));
    })
    .distinct<{ id: number }[]>('p.workload_id as id');
  return newer.map(({ id }) => id);
}

/** What bringing one workload would do, and what was found that speaks against it. */
async function lookAt(deps: Deps, row: StandingRecord, workloadId: number, point: PointRow, stamp: string) {
  const { name } = await deps.db('workload').where({ id: workloadId }).first<{ name: string }>('name');
  const asked = restoreOf(bodyOfStanding(row), name, point, stamp);
  const picks = await resolvePicks(deps, asked, actorFor(`standing ${row.no}`, row.person));
  const planner = plannerFor(asked, picks);
  const before = madeBefore(row)[String(workloadId)] ?? null;
  const { checks } = await planner.look(deps, asked, picks);
  // the machine of the time before has the name, and makes way
  return { name, asked, picks, planner, before, checks: checks.filter((c) => !(before !== null && c.code === 'NAME_TAKEN')) };
}

/** What a repeated restore would bring now, and what speaks against it. Throws NOT_NOW where there is no good point. */
export async function lookAtStanding(deps: Deps, row: StandingRecord): Promise<{ readonly moments: number[]; readonly checks: Check[] }> {
  const [moments, checks]: [number[], Check[]] = [[], []];
  for (const workloadId of bodyOfStanding(row).workloads) {
    const point = await newestGood(deps, workloadId);
    moments.push(point.moment);
    checks.push(...(await lookAt(deps, row, workloadId, point, '')).checks);
  }
  return { moments, checks };
}

/** The tasks of one workload, each taking away what the time before has brought. Throws INVALID for what stands in the way. */
async function tasksFor(
  deps: Deps,
  row: StandingRecord,
  workloadId: number,
  point: PointRow,
  stamp: string,
): Promise<readonly RestoreTask[]> {
  const { name, asked, picks, planner, before, checks } = await lookAt(deps, row, workloadId, point, stamp);
  const stop = checks.find((c) => c.level === 'stop');
  if (stop) throw new ApiError('INVALID', { check: stop.code }, stop.text);
  const body = bodyOfStanding(row);
  const folder = Buffer.from(folderOf(body, name)).toString('latin1');
  return (await planner.tasks(deps, asked, picks)).map((task): RestoreTask => {
    const { work } = task;
    if (work.type !== 'restore') return task;
    const { to } = work;
    if (to.kind === 'files') return { ...task, work: { ...work, to: { ...to, round: { id: row.id, folder, name: stamp } } } };
    if (to.kind === 'machine' && to.destination.to === 'cloud')
      return { ...task, work: { ...work, to: { ...to, destination: { ...to.destination, round: { id: row.id, before } } } } };
    if (to.kind === 'machine' && to.destination.to === 'new')
      return { ...task, work: { ...work, to: { ...to, destination: { ...to.destination, round: { id: row.id, before } } } } };
    return task;
  });
}

/** Begins a standing restore, of all its workloads or of some; `also` is done in the same transaction. Throws INVALID, NOT_NOW for what keeps it from that, and then nothing has begun. */
export async function beginStanding(
  deps: Deps,
  row: StandingRecord,
  startedBy: 'schedule' | 'hand',
  person: string,
  workloads = bodyOfStanding(row).workloads as readonly number[],
  also?: (trx: Knex.Transaction, runId: number) => Promise<void>,
): Promise<number> {
  const body = bodyOfStanding(row);
  const { clock } = deps;
  if (await goesOn(deps.db, row.no)) throw new ApiError('NOT_NOW', undefined, 'The time before has not ended yet.');
  const stamp = DateTime.fromMillis(clock.now(), { zone: deps.config.zone }).toFormat('yyyy-MM-dd HHmmss');
  const tasks: RestoreTask[] = [];
  const brought: Record<string, number> = { ...broughtBefore(row) };
  for (const workloadId of workloads) {
    const point = await newestGood(deps, workloadId);
    brought[String(workloadId)] = point.moment;
    tasks.push(...(await tasksFor(deps, row, workloadId, point, stamp)));
  }
  const runId = await inTransaction(deps.db, async (trx) => {
    await trx('standing_restore').where({ no: row.no }).forUpdate().first('no');
    if (await goesOn(trx, row.no)) throw new ApiError('NOT_NOW', undefined, 'The time before has not ended yet.');
    const id = await queueRun(trx, clock.now(), {
      kind: 'restore',
      startedBy,
      name: body.name,
      person,
      reason: body.reason,
      rules: `the newest good ${workloads.length === 1 ? 'point' : 'points'} of ${countOf(workloads.length, 'workload')}; what the time before has brought is taken away once the new is whole`,
      tasks: tasks.map((t) => ({ ...t, seriesNo: null, type: t.work.type })),
    });
    await trx('run').where({ id }).update({ standing_no: row.no });
    await trx('standing_restore')
      .where({ no: row.no })
      .update({ trouble: '', brought: JSON.stringify(brought) });
    await also?.(trx, id);
    return id;
  });
  deps.movers.workAppeared();
  await deps.events.emit('run', { runId });
  return runId;
}

/** Whether a time of it has not ended yet. */
export async function goesOn(db: Knex, no: number): Promise<boolean> {
  return (
    (await db('run').where({ standing_no: no }).whereIn('state', ['waiting', 'running']).first<object | undefined>('id')) !== undefined
  );
}

/** So long after it could not begin for a newer point it is tried again. */
const retryMs = 5 * 60_000;

/** The workloads a standing restore is due for; none where it is not. */
async function dueOf(deps: Deps, row: StandingRecord, now: number): Promise<readonly number[]> {
  const body = bodyOfStanding(row);
  const timetable = timetableOf(body, deps.config.zone);
  if (timetable) return runsBetween(timetable, row.due_from, now).length ? body.workloads : [];
  const waits = row.trouble !== '' && now - row.due_from < retryMs;
  return waits || (await goesOn(deps.db, row.no)) ? [] : withNewer(deps, row);
}

/** Begins the standing restores that came due; several missed times count as one. What keeps one from beginning is kept with it. */
export async function startDueStanding(deps: Deps): Promise<void> {
  const now = deps.clock.now();
  for (const row of await deps.db('standing_restore').where({ ended: false }).where('due_from', '<', now).select<StandingRecord[]>()) {
    const workloads = await dueOf(deps, row, now);
    if (!workloads.length) continue;
    // another server may have begun it
    if (!(await deps.db('standing_restore').where({ no: row.no, due_from: row.due_from }).update({ due_from: now }))) continue;
    try {
      await beginStanding(deps, row, 'schedule', row.person, workloads);
    } catch (error) {
      if (!(error instanceof ApiError)) throw error;
      await deps
        .db('standing_restore')
        .where({ no: row.no })
        .update({ trouble: error.message.slice(0, 500) });
      deps.log.warn({ err: error, standing: row.no }, 'a standing restore could not begin');
    }
  }
}

/** Remembers what machines a time has made: the next one takes them away. Gives the workload that they are known as already. */
export async function rememberMade(trx: Knex, runId: number, workloadId: number, made: readonly string[]): Promise<number | undefined> {
  const run = await trx('run').where({ id: runId }).first<{ standing_no: number | null }>('standing_no');
  if (run.standing_no === null || !made[0]) return undefined;
  const row = await trx('standing_restore').where({ no: run.standing_no }).forUpdate().first<StandingRecord>();
  const before = madeBefore(row);
  await trx('standing_restore')
    .where({ no: row.no })
    .update({ made: JSON.stringify({ ...before, [workloadId]: made[0] }) });
  const known = before[String(workloadId)];
  if (known === undefined) return undefined;
  return (await trx('workload').where({ outer_id: known }).first<{ id: number } | undefined>('id'))?.id;
}
