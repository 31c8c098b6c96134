import type { BackupWork, ClaimedTask, ExpireWork, PointRef, Work } from '@lithodex/contract';
import { bytesOfText } from '@lithodex/core';
import type { Knex } from 'knex';
import { ordinalStep } from '../catalog/ordinals';
import { unload } from '../catalog/load';
import type { SeriesRow } from '../catalog/points';
import { fromJson } from '../db/json';
import { inTransaction } from '../db/open';
import type { Deps } from '../deps';
import { settleRun, type BackupPlan } from '../runs/queue';

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

/** Gives the oldest waiting task whose series is free to a mover, with a lease. */
export async function claimTask(deps: Deps, mover: string): Promise<ClaimedTask | undefined> {
  const claimed = await inTransaction(deps.db, async (trx) => {
    const task = await trx('task as t')
      .where('t.state', 'waiting')
      .whereNotExists(
        trx('task as o')
          .whereRaw('o.series_no = t.series_no')
          .where('o.state', 'running')
          .whereRaw("t.type IN ('backup', 'expire') AND o.type IN ('backup', 'expire')"),
      )
      .orderBy(['t.queued_at', 't.id'])
      .limit(1)
      .forUpdate()
      .skipLocked()
      .first<TaskRow | undefined>('t.*');
    if (!task) return undefined;
    const attempt = task.attempt + 1;
    const now = deps.clock.now();
    const ordinal = task.type === 'backup' ? await reserveOrdinal(trx, task) : null;
    const work = await workOf(trx, task, now);
    await trx('task')
      .where({ id: task.id })
      .update({
        state: 'running',
        attempt,
        mover,
        lease_until: Date.now() + deps.config.leaseMs,
        started_at: task.started_at ?? now,
        ordinal,
      });
    await settleRun(deps, trx, task.run_id);
    return { id: task.id, runId: task.run_id, attempt, leaseMs: deps.config.leaseMs, serverNow: now, work };
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

async function workOf(trx: Knex.Transaction, task: TaskRow, now: number): Promise<Work> {
  if (task.type === 'backup' || task.type === 'trial') return backupWork(trx, task, now);
  if (task.type === 'expire')
    return { type: 'expire', points: await pointRefs(trx, fromJson<{ points: string[] }>(task.work).points) } satisfies ExpireWork;
  return fromJson<Work>(task.work);
}

async function backupWork(trx: Knex.Transaction, task: TaskRow, now: number): Promise<BackupWork> {
  const plan = fromJson<BackupPlan>(task.work);
  const series = await trx('series').where({ no: task.series_no }).first<SeriesRow>();
  type Joined = { id: number; name: string; source: string; folder: Buffer; read_as: string | null; cross_fs: 0 | 1 };
  const workload = await trx('workload as w')
    .join('source as s', 's.id', 'w.source_id')
    .where('w.id', task.workload_id)
    .first<Joined>('w.id', 'w.name', 's.name as source', 's.folder', 's.read_as', 's.cross_fs');
  const target = await trx('target').where({ id: plan.targetId }).first<{ id: string; folder: string }>();
  const targets = await trx('target').select<{ folder: string }[]>('folder');
  const previous = await trx('point')
    .where({ series_no: series.no, state: 'visible' })
    .orderBy('ordinal', 'desc')
    .first<{ id: string; items: number; bytes: number } | undefined>();
  return {
    type: task.type === 'trial' ? 'trial' : 'backup',
    target: { id: target.id, folder: target.folder },
    seriesId: series.id,
    workload: { id: String(workload.id), name: workload.name, source: workload.source, path: workload.folder.toString('latin1') },
    kind: previous ? plan.kind : 'full',
    previous: previous?.id ?? null,
    moment: now,
    include: [...plan.include],
    exclude: [...plan.exclude],
    crossFileSystems: workload.cross_fs === 1,
    readAs: workload.read_as,
    targetFolders: targets.map((t) => bytesOfText(t.folder)),
    expected: { items: previous?.items ?? 0, bytes: previous?.bytes ?? 0 },
  };
}

/** References to points as movers need them. */
export async function pointRefs(db: Knex, ids: readonly string[]): Promise<PointRef[]> {
  type Row = { taskId: string; seriesId: string; targetId: string; folder: string; root: Buffer };
  const rows = await db('point as p')
    .join('series as s', 's.no', 'p.series_no')
    .join('target as t', 't.id', 's.target_id')
    .join('workload as w', 'w.id', 'p.workload_id')
    .join('source as o', 'o.id', 'w.source_id')
    .whereIn('p.id', ids)
    .select<Row[]>('p.id as taskId', 's.id as seriesId', 't.id as targetId', 't.folder', 'o.folder as root');
  return rows.map((r) => ({
    taskId: r.taskId,
    seriesId: r.seriesId,
    target: { id: r.targetId, folder: r.folder },
    root: r.root.toString('latin1'),
  }));
}
