import type { BackupWork, CopyWork, MachinePoint, PointKind, PointRef, VerifyWork, Work } from '@lithodex/contract';
import { kinds, type DatabaseLogPoint, type DatabasePoint, type From, type LogStart } from '@lithodex/kinds';
import type { Knex } from 'knex';
import type { SeriesRow } from '../../records/catalog/points';
import { fromJson } from '../../base/db/json';
import type { AttachPlan, DownloadPlan, PlannedPick, RestorePlan, RunMachinePlan } from '../../records/runs/planned-restore';
import type { CopyPlan } from '../runs/copying';
import type { ExpirePlan } from '../runs/expiry';
import type { BackupPlan } from '../runs/queue';
import type { Secrets } from '../../base/secrets';
import type { CarePlan } from '../targets/care';
import { drillWork, type DrillTask } from '../trust/drills';
import { scanWork, type ScanPlan } from '../trust/scans';
import { editedOf } from '../../records/runs/edited-texts';
import { fromOf, placeOf, sourceOf, type WorkloadSource } from '../../records/systems/kinds-of-place';
import { snapshotRows, type SnapshotRow } from '../../records/systems/snapshot-rows';
import { ApiError } from '../../base/errors';
import { platformRef, type PlatformRow } from '../../records/systems/platform-rows';
import { otherTargets, pointRefs, targetRef } from '../../records/targets/refs';
import { pointIdOf, type RunningTask } from '../../records/movers/running-task';
import { isBegunLate } from './begun-late';

/** A task as it stands in the queue. */
export type QueuedTask = Omit<RunningTask, 'stop_requested' | 'cut_off' | 'started_at' | 'mover'> & { readonly started_at: number | null };

/** What a task is about, with what opens its source and its targets: goes to `mover` only. What opens a source that another one reads is not among it. */
export async function workOf(trx: Knex.Transaction, secrets: Secrets, task: QueuedTask, now: number, mover: string): Promise<Work> {
  switch (task.type) {
    case 'backup':
    case 'trial':
      return backupWork(trx, secrets, task, now, mover);
    case 'copy':
      return copyWork(trx, secrets, fromJson<CopyPlan>(task.work));
    case 'expire': {
      const { targetId, points } = fromJson<ExpirePlan>(task.work);
      return {
        type: 'expire',
        target: await targetRef(trx, secrets, targetId),
        points: await pointNames(trx, (q) => q.whereIn('p.id', points)),
      };
    }
    case 'prune':
    case 'verify':
    case 'adopt':
      return careWork(trx, secrets, fromJson<CarePlan>(task.work));
    case 'scan':
      return scanWork(trx, secrets, fromJson<ScanPlan>(task.work), now);
    case 'drill':
      return drillWork(trx, secrets, task.workload_id!, fromJson<DrillTask>(task.work));
    case 'download': {
      const { picks, readFrom, ...plan } = fromJson<DownloadPlan>(task.work);
      return { ...plan, picks: await withPoints(trx, secrets, picks, readFrom) };
    }
    case 'attach': {
      // one that was queued by an earlier version says nothing of it
      const { pick, readFrom, as = 'device', ...plan } = fromJson<AttachPlan>(task.work);
      const [found] = await withPoints(trx, secrets, [pick], readFrom);
      return { ...plan, as, point: found!.point, path: pick.path };
    }
    case 'runMachine': {
      const { pick, readFrom, platformId, heldBy, ...plan } = fromJson<RunMachinePlan>(task.work);
      const [found] = await withPoints(trx, secrets, [pick], readFrom);
      const platform = platformRef(secrets, await trx('source').where({ id: platformId }).first<PlatformRow>());
      return { ...plan, point: found!.point, platform };
    }
    case 'restore': {
      const { picks, readFrom, to, edited, ...plan } = fromJson<RestorePlan>(task.work);
      // one that is tried again later has nothing to put there: the mover says so
      const text = edited ? ((await editedOf(trx, secrets, task.id)) ?? '') : null;
      return { ...plan, edited: text, picks: await withPoints(trx, secrets, picks, readFrom), to: await placeOf(trx, secrets, to) };
    }
  }
}

async function careWork(trx: Knex.Transaction, secrets: Secrets, { targetId, ...plan }: CarePlan): Promise<Work> {
  const target = await targetRef(trx, secrets, targetId);
  if (plan.type !== 'verify') return { ...plan, target };
  const expected = await trx('copy as c')
    .join('point as p', 'p.id', 'c.point_id')
    .join('series as s', 's.no', 'p.series_no')
    .where({ 'c.target_id': targetId, 'c.state': 'present' })
    .select<VerifyWork['expected']>('s.id as seriesId', 'p.id as taskId', 'c.locked_until as lockedUntil');
  return { ...plan, target, others: await otherTargets(trx, secrets, targetId), expected };
}

/** End of a lock that is counted from a point's moment. */
const lockEnd = (moment: number, days: number | null | undefined) => (days ? moment + days * 86_400_000 : null);

async function copyWork(trx: Knex.Transaction, secrets: Secrets, { targetId, points, alike, lockDays }: CopyPlan): Promise<CopyWork> {
  const refs = new Map((await pointRefs(trx, secrets, points)).map((r) => [r.taskId, r]));
  const moments = new Map(
    (await trx('point').whereIn('id', points).select<{ id: string; moment: number }[]>('id', 'moment')).map((p) => [p.id, p.moment]),
  );
  const there = points.flatMap((id) => {
    const ref = refs.get(id);
    return ref ? [{ ...ref, lockedUntil: lockEnd(moments.get(id)!, lockDays) }] : [];
  });
  const size = await trx('point').whereIn('id', points).max({ bytes: 'bytes' }).first<{ bytes: number | null }>();
  return { type: 'copy', to: await targetRef(trx, secrets, targetId), points: there, alike, expected: { bytes: Number(size.bytes ?? 0) } };
}

/** Series and task of points, which name their roots. */
async function pointNames(
  trx: Knex.Transaction,
  which: (q: Knex.QueryBuilder) => Knex.QueryBuilder,
): Promise<{ seriesId: string; taskId: string }[]> {
  const all = trx('point as p').join('series as s', 's.no', 'p.series_no');
  return which(all).select<{ seriesId: string; taskId: string }[]>('s.id as seriesId', 'p.id as taskId');
}

/** Picks with their points, and where those are read. */
async function withPoints<P extends PlannedPick>(
  trx: Knex.Transaction,
  secrets: Secrets,
  picks: readonly P[],
  readFrom: string | null,
): Promise<(Omit<P, 'pointId'> & { point: PointRef })[]> {
  const refs = await pointRefs(trx, secrets, [...new Set(picks.map((p) => p.pointId))], readFrom);
  const byId = new Map(refs.map((r) => [r.taskId, r]));
  return picks.map(({ pointId, ...pick }) => ({ ...pick, point: byId.get(pointId)! }));
}

/** A first point reads everything, and so does a differential without a full one to go by. */
async function howToTake(
  trx: Knex.Transaction,
  series: SeriesRow,
  kind: PointKind,
  newest: string | undefined,
): Promise<Pick<BackupWork, 'kind' | 'previous' | 'base'>> {
  if (newest === undefined) return { kind: kind === 'log' ? 'log' : 'full', previous: null, base: null };
  if (kind === 'full') return { kind, previous: newest, base: null };
  if (kind !== 'differential') return { kind, previous: newest, base: newest };
  const full = await standingPoints(trx, series).whereIn('kind', ['full', 'synthetic']).first<{ id: string } | undefined>('id');
  return full ? { kind, previous: newest, base: full.id } : { kind: 'full', previous: newest, base: null };
}

type Position = NonNullable<DatabasePoint['position']>;

/** Where the fulls of a workload stand in its log, the oldest first. */
async function fullsInLog(trx: Knex.Transaction, workloadId: number): Promise<Position[]> {
  const rows = await trx('point')
    .where({ workload_id: workloadId, state: 'visible' })
    .whereNot({ kind: 'log' })
    .whereNotNull('facts')
    .orderBy('moment')
    .select<{ facts: unknown }[]>('facts');
  return rows.flatMap(({ facts }) => fromJson<DatabasePoint>(facts).position ?? []);
}

/** What is taken of a log after `previous`: from the newest full on that is older than what is to be reached, or from the oldest. */
async function howToFollow(
  trx: Knex.Transaction,
  workloadId: number,
  previous: { readonly facts: unknown } | undefined,
  reached: number,
): Promise<{ readonly logStart: LogStart | null; readonly base?: null }> {
  const fulls = await fullsInLog(trx, workloadId);
  const start = fulls.findLast((f) => f.since <= reached) ?? fulls[0];
  const logStart = start ? { file: start.file, at: start.at, moment: start.since } : null;
  return previous && isBegunLate(fromJson<DatabaseLogPoint>(previous.facts), fulls) ? { logStart, base: null } : { logStart };
}

/** Points of a series on its target, the newest first. */
function standingPoints(trx: Knex.Transaction, series: SeriesRow): Knex.QueryBuilder {
  return trx('point')
    .where({ series_no: series.no, state: 'visible' })
    .whereIn('id', trx('copy').where({ target_id: series.target_id, state: 'present' }).select('point_id'))
    .orderBy('ordinal', 'desc');
}

/** A machine as a snapshot of its storage has it: it may be gone from the platform by now. */
async function fromSnapshot(trx: Knex.Transaction, secrets: Secrets, workload: WorkloadSource, kept: SnapshotRow): Promise<From> {
  const from = await fromOf(trx, secrets, workload);
  if (from.kind !== 'machine') throw new ApiError('POINT_GONE');
  const { cluster, location } = fromJson<MachinePoint>(kept.machine);
  return { ...from, id: kept.outer_machine, cluster, location, inside: null, snapshot: { storage: kept.storage, id: kept.outer_id } };
}

/** What a backup takes next, and goes by. */
export async function backupWork(
  trx: Knex.Transaction,
  secrets: Secrets,
  task: QueuedTask,
  now: number,
  mover: string,
): Promise<BackupWork> {
  const plan = fromJson<BackupPlan>(task.work);
  const series = await trx('series').where({ no: task.series_no }).first<SeriesRow>();
  const workload = await sourceOf(trx, task.workload_id!);
  const elsewhere = workload.read_by === mover ? null : workload.read_by;
  const previous = await standingPoints(trx, series).first<
    { id: string; facts: unknown; items: number; bytes: number; names_inside: number } | undefined
  >('id', 'facts', 'names_inside', 'items', 'bytes');
  const kept = plan.snapshot === undefined ? undefined : (await snapshotRows(trx, [plan.snapshot]))[0];
  if (plan.snapshot !== undefined && !kept) throw new ApiError('POINT_GONE');
  const reached = now - (plan.logDays ?? 0) * 86_400_000;
  const { newest_files: beside } = await trx('target').where({ id: plan.targetId }).first<{ newest_files: 0 | 1 }>('newest_files');
  return {
    type: task.type === 'trial' ? 'trial' : 'backup',
    pointId: pointIdOf(task),
    follow: task.follows === 1,
    target: await targetRef(trx, secrets, plan.targetId),
    seriesId: series.id,
    workload: { id: String(workload.id), name: workload.name, source: workload.source, path: workload.folder.toString('latin1') },
    ...(await howToTake(trx, series, plan.kind, previous?.id)),
    ...(plan.kind === 'log' ? await howToFollow(trx, workload.id, previous, reached) : { logStart: null }),
    fresh: plan.fresh ?? false,
    moment: kept?.taken_at ?? now,
    include: [...plan.include],
    exclude: [...plan.exclude],
    parts: [...(plan.parts ?? [])],
    from: kept
      ? await fromSnapshot(trx, secrets, workload, kept)
      : elsewhere === null
        ? await fromOf(trx, secrets, workload)
        : { kind: 'afar', mover: elsewhere, of: workload.kind },
    logged: plan.logged ?? false,
    lockedUntil: lockEnd(now, plan.lockDays),
    scripts: plan.scripts ?? null,
    newestBeside: beside === 1 && plan.kind !== 'log',
    namesInside: { before: previous?.names_inside ?? 0, now: (plan.namesInside ?? false) && kinds[workload.kind].opens },
    expected: { items: previous?.items ?? 0, bytes: previous?.bytes ?? 0 },
  };
}
