import type {
  BackupWork,
  ClaimedTask,
  CopyWork,
  DownloadWork,
  MachineFacts,
  MachineWork,
  PointKind,
  RestoreWork,
  VerifyWork,
  Work,
} from '@lithodex/contract';
import { bytesOfText } from '@lithodex/core';
import type { Knex } from 'knex';
import { ordinalStep } from '../catalog/ordinals';
import { unload } from '../catalog/load';
import type { SeriesRow } from '../catalog/points';
import { fromJson } from '../db/json';
import { inTransaction } from '../db/open';
import type { Deps } from '../deps';
import { settleRun, type BackupPlan } from '../runs/queue';
import { insideAccount } from '../platforms/inside';
import { platformRef, type PlatformRow } from '../platforms/platform-rows';
import type { MachinePlan } from '../recover/machine-restores';
import type { Secrets } from '../secrets';
import type { CarePlan } from '../targets/care';
import type { DownloadPlan, RestorePlan } from '../recover/restore-handlers';
import type { CopyPlan } from '../runs/copying';
import type { ExpirePlan } from '../runs/expiry';
import { stillGood, type Actor } from '../http/access';
import { isFull, whereAdmitted } from './admission';
import { moverTerms } from './known-movers';
import { workFor } from './duties';
import { paceOfTask } from './pace';
import { otherTargets, pointRefs, targetRef } from './refs';

interface TaskRow {
  readonly id: string;
  readonly run_id: number;
  readonly workload_id: number | null;
  readonly series_no: number | null;
  readonly type: Work['type'];
  readonly attempt: number;
  readonly work: unknown;
  readonly ordinal: number | null;
  readonly started_at: number | null;
}

/** Where the data of a task `t` is: what is read of a source is where that stands, all else where the target does. */
const placeOfTask = `IF(t.type IN ('backup', 'trial'),
  (SELECT COALESCE(JSON_VALUE(w.facts, '$.location'), s.location) FROM workload w JOIN source s ON s.id = w.source_id WHERE w.id = t.workload_id),
  (SELECT g.location FROM target g WHERE g.id = JSON_VALUE(t.work, '$.targetId')))`;

/** The platform whose credentials a task `t` carries; NULL for none. */
const platformOfTask = `IF(t.type = 'machine', JSON_VALUE(t.work, '$.platformId'),
  (SELECT s.id FROM workload w JOIN source s ON s.id = w.source_id WHERE w.id = t.workload_id AND s.kind = 'platform' AND t.type IN ('backup', 'trial')))`;

/** Gives the first waiting task (by priority, then by how near its data is, then by age) whose series is free, and that its duties cover, to a mover, with a lease. */
export async function claimTask(deps: Deps, mover: string, actor: Actor): Promise<ClaimedTask | undefined> {
  const { tokenId, duties, systems } = actor;
  const { drained, place } = await moverTerms(deps.db, mover);
  if (drained) return undefined;
  const claimed = await inTransaction(deps.db, async (trx) => {
    const task = await trx('task as t')
      .where('t.state', 'waiting')
      .whereIn('t.type', workFor(duties))
      .whereNotExists(
        trx('task as o')
          .whereRaw('o.series_no = t.series_no')
          .where('o.state', 'running')
          .whereRaw("t.type IN ('backup', 'expire') AND o.type IN ('backup', 'expire')"),
      )
      // a verification would take a root that expires meanwhile for lost
      .whereNotExists(
        trx('task as v')
          .where({ 'v.type': 'verify', 'v.state': 'running' })
          .whereRaw("t.type = 'expire' AND JSON_VALUE(v.work, '$.targetId') = JSON_VALUE(t.work, '$.targetId')"),
      )
      // points are fitted into series that nobody else writes to meanwhile
      .whereNotExists(
        trx('task as a')
          .where('a.state', 'running')
          .whereRaw("JSON_VALUE(a.work, '$.targetId') = JSON_VALUE(t.work, '$.targetId')")
          .whereRaw("((a.type = 'adopt' AND t.type IN ('backup', 'expire')) OR (t.type = 'adopt' AND a.type IN ('backup', 'expire')))"),
      )
      .modify((q) => {
        if (systems !== null)
          void q.whereRaw(`COALESCE(${platformOfTask}, 0) IN (${['0', ...systems.map(() => '?')].join(', ')})`, [...systems]);
      })
      .modify(whereAdmitted)
      .orderBy('t.priority')
      .modify((q) => {
        if (place) void q.orderByRaw(`CASE COALESCE(${placeOfTask}, '') WHEN ? THEN 0 WHEN '' THEN 1 ELSE 2 END`, [place]);
      })
      .orderBy(['t.queued_at', 't.id'])
      .limit(1)
      .forUpdate()
      .skipLocked()
      .first<TaskRow | undefined>('t.*');
    if (!task || (await isFull(trx, task))) return undefined;
    await stillGood(trx, actor);
    const attempt = task.attempt + 1;
    const now = deps.clock.now();
    if (task.type === 'adopt' && task.ordinal !== null && task.series_no !== null) await unload(trx, task.series_no, task.ordinal);
    const ordinal = task.type === 'backup' ? await reserveOrdinal(trx, task) : null;
    const work = await workOf(trx, deps.secrets, task, now);
    await trx('task')
      .where({ id: task.id })
      .update({
        state: 'running',
        attempt,
        mover,
        token_id: tokenId,
        lease_until: Date.now() + deps.config.leaseMs,
        started_at: task.started_at ?? now,
        ordinal,
        ...(task.type === 'adopt' && { series_no: null }),
      });
    await settleRun(deps, trx, task.run_id);
    const pace = await paceOfTask(trx, deps.config.zone, now, task);
    return { id: task.id, runId: task.run_id, attempt, leaseMs: deps.config.leaseMs, serverNow: now, pace, work };
  });
  if (claimed) await deps.events.emit('run', { runId: claimed.runId, taskId: claimed.id });
  return claimed;
}

/** The ordinal the point of this task will have; kept over attempts, with what an earlier attempt loaded taken back. */
async function reserveOrdinal(trx: Knex.Transaction, task: TaskRow): Promise<number> {
  const series = await trx('series').where({ no: task.series_no }).forUpdate().first<SeriesRow>();
  if (task.ordinal !== null) {
    await unload(trx, series.no, task.ordinal);
    return task.ordinal;
  }
  const ordinal = series.last_ordinal + ordinalStep;
  await trx('series').where({ no: series.no }).update({ last_ordinal: ordinal });
  return ordinal;
}

async function workOf(trx: Knex.Transaction, secrets: Secrets, task: TaskRow, now: number): Promise<Work> {
  switch (task.type) {
    case 'backup':
    case 'trial':
      return backupWork(trx, secrets, task, now);
    case 'copy':
      return copyWork(trx, secrets, fromJson<CopyPlan>(task.work));
    case 'machine':
      return machineWork(trx, secrets, fromJson<MachinePlan>(task.work));
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
    case 'restore':
    case 'download':
      return withPoints(trx, secrets, fromJson<RestorePlan | DownloadPlan>(task.work));
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

const whereIs = ({ cluster, location }: MachineFacts) => ({ cluster, location });

async function machineWork(
  trx: Knex.Transaction,
  secrets: Secrets,
  { pointId, platformId, readFrom, ...plan }: MachinePlan,
): Promise<MachineWork> {
  const [point] = await pointRefs(trx, secrets, [pointId], readFrom);
  const platform = await trx('source').where({ id: platformId }).first<PlatformRow>();
  return { ...plan, point: point!, platform: platformRef(secrets, platform) };
}

async function withPoints(
  trx: Knex.Transaction,
  secrets: Secrets,
  { readFrom, ...plan }: RestorePlan | DownloadPlan,
): Promise<RestoreWork | DownloadWork> {
  const refs = await pointRefs(trx, secrets, [...new Set(plan.picks.map((p) => p.pointId))], readFrom);
  const byId = new Map(refs.map((r) => [r.taskId, r]));
  const picks = plan.picks.map(({ pointId, ...pick }) => ({ ...pick, point: byId.get(pointId)! }));
  return { ...plan, picks } as RestoreWork | DownloadWork;
}

/** A first point reads everything, and so does a differential without a full one to go by. */
async function howToTake(
  trx: Knex.Transaction,
  series: SeriesRow,
  kind: PointKind,
  newest: string | undefined,
): Promise<Pick<BackupWork, 'kind' | 'previous' | 'base'>> {
  if (newest === undefined) return { kind: 'full', previous: null, base: null };
  if (kind === 'full') return { kind, previous: newest, base: null };
  if (kind !== 'differential') return { kind, previous: newest, base: newest };
  const full = await standingPoints(trx, series).whereIn('kind', ['full', 'synthetic']).first<{ id: string } | undefined>('id');
  return full ? { kind, previous: newest, base: full.id } : { kind: 'full', previous: newest, base: null };
}

/** Points of a series on its target, the newest first. */
function standingPoints(trx: Knex.Transaction, series: SeriesRow): Knex.QueryBuilder {
  return trx('point')
    .where({ series_no: series.no, state: 'visible' })
    .whereIn('id', trx('copy').where({ target_id: series.target_id, state: 'present' }).select('point_id'))
    .orderBy('ordinal', 'desc');
}

async function backupWork(trx: Knex.Transaction, secrets: Secrets, task: TaskRow, now: number): Promise<BackupWork> {
  const plan = fromJson<BackupPlan>(task.work);
  const series = await trx('series').where({ no: task.series_no }).first<SeriesRow>();
  interface Joined extends Pick<PlatformRow, 'address' | 'secret'> {
    readonly id: number;
    readonly name: string;
    readonly source_id: number;
    readonly source: string;
    readonly folder: Buffer;
    readonly read_as: string | null;
    readonly cross_fs: 0 | 1;
    readonly outer_id: string | null;
    readonly facts: unknown;
  }
  const workload = await trx('workload as w')
    .join('source as s', 's.id', 'w.source_id')
    .where('w.id', task.workload_id)
    .first<Joined>(
      'w.id',
      'w.name',
      'w.outer_id',
      'w.facts',
      's.id as source_id',
      's.name as source',
      's.folder',
      's.read_as',
      's.cross_fs',
      's.address',
      's.secret',
    );
  const folders = await trx('target').whereNotNull('folder').select<{ folder: string }[]>('folder');
  const previous = await standingPoints(trx, series).first<{ id: string; items: number; bytes: number } | undefined>(
    'id',
    'items',
    'bytes',
  );
  return {
    type: task.type === 'trial' ? 'trial' : 'backup',
    target: await targetRef(trx, secrets, plan.targetId),
    seriesId: series.id,
    workload: { id: String(workload.id), name: workload.name, source: workload.source, path: workload.folder.toString('latin1') },
    ...(await howToTake(trx, series, plan.kind, previous?.id)),
    fresh: plan.fresh ?? false,
    moment: now,
    include: [...plan.include],
    exclude: [...plan.exclude],
    crossFileSystems: workload.cross_fs === 1,
    readAs: workload.read_as,
    machine:
      workload.outer_id === null
        ? null
        : {
            platform: platformRef(secrets, { ...workload, id: workload.source_id }),
            id: workload.outer_id,
            ...whereIs(fromJson<MachineFacts>(workload.facts)),
            inside: await insideAccount(trx, secrets, workload.id),
          },
    lockedUntil: lockEnd(now, plan.lockDays),
    scripts: plan.scripts ?? null,
    targetFolders: folders.map((t) => bytesOfText(t.folder)),
    expected: { items: previous?.items ?? 0, bytes: previous?.bytes ?? 0 },
  };
}
