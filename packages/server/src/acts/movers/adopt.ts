import type { FoundPoint, PointAdopted } from '@lithodex/contract';
import { workloadOfPoint } from '@lithodex/kinds';
import type { Knex } from 'knex';
import type { z } from 'zod';
import { insertPoint } from '../../records/catalog/insert-point';
import { unload } from '../../records/catalog/load';
import { ordinalStep } from '../../records/catalog/ordinals';
import { livingPoints, type SeriesRow } from '../../records/catalog/points';
import { fromJson } from '../../base/db/json';
import { ApiError } from '../../base/errors';
import type { CarePlan } from '../targets/care';
import { summarizePoints } from '../../records/catalog/point-summary';
import { recordPromises } from '../policies/promises';
import { methodOf } from '../runs/queue';
import type { RunningTask } from '../../records/movers/running-task';

type Answer = { readonly say: 'known' | 'load' | 'passed'; readonly previous: string | null };

/**
 * Says what is to be done with a point found on a target. A point of the catalog gets its copy there back; one not older than any of its series gets an ordinal, under which its items are
 * loaded; its workload and source are made where they are not known.
 */
export async function meetPoint(trx: Knex.Transaction, now: number, task: RunningTask, point: FoundPoint): Promise<Answer> {
  const targetId = targetOf(task);
  if (task.ordinal !== null && task.series_no !== null) await unload(trx, task.series_no, task.ordinal);
  const known = await trx('point')
    .where({ id: point.taskId })
    .first<{ state: string; series_no: number } | undefined>('state', 'series_no');
  if (known) {
    if (known.state === 'visible') {
      await standing(trx, targetId, point);
      await recordPromises(trx, now, known.series_no);
    }
    await trx('task').where({ id: task.id }).update({ series_no: null, ordinal: null });
    return { say: 'known', previous: null };
  }
  const series = await seriesOf(trx, now, targetId, point);
  const newest = (await livingPoints(trx, series.no)).at(-1);
  if (newest && newest.moment > point.moment) return { say: 'passed', previous: null };
  const ordinal = series.last_ordinal + ordinalStep;
  await trx('series').where({ no: series.no }).update({ last_ordinal: ordinal });
  await trx('task').where({ id: task.id }).update({ series_no: series.no, ordinal });
  return { say: 'load', previous: newest?.id ?? null };
}

/** Makes a met point visible, its items being loaded. Throws NOT_NOW when it was not met before. */
export async function makeAdoptedVisible(
  trx: Knex.Transaction,
  now: number,
  task: RunningTask,
  { point, changes }: z.infer<typeof PointAdopted>,
): Promise<number> {
  // the answer to an earlier call may have been lost on its way
  const known = await trx('point').where({ id: point.taskId }).first<{ workload_id: number } | undefined>('workload_id');
  if (known) return known.workload_id;
  if (task.series_no === null || task.ordinal === null) throw new ApiError('NOT_NOW');
  const series = await trx('series').where({ no: task.series_no }).forUpdate().first<SeriesRow>();
  const living = await livingPoints(trx, series.no);
  const before = living.find((p) => p.id === point.base) ?? living.at(-1);
  await insertPoint(trx, series, point, {
    id: point.taskId,
    run_id: task.run_id,
    policy_id: null,
    ordinal: task.ordinal,
    builds_on: before?.id ?? null,
    changes,
    complete: point.warnings === 0,
    judged: { share: 0, score: 0, reasons: [], suspect: false },
  });
  await standing(trx, targetOf(task), point);
  await recordPromises(trx, now, series.no);
  await summarizePoints(trx, series.workload_id);
  await trx('load_batch').where({ task_id: task.id }).delete();
  await trx('task').where({ id: task.id }).update({ series_no: null, ordinal: null });
  return series.workload_id;
}

const targetOf = (task: RunningTask) => fromJson<CarePlan>(task.work).targetId;

async function standing(trx: Knex.Transaction, targetId: string, point: FoundPoint): Promise<void> {
  const row = { state: 'present', made_at: point.moment, stored: point.stored, gone_at: null, locked_until: point.lockedUntil };
  await trx('copy')
    .insert({ point_id: point.taskId, target_id: targetId, ...row })
    .onConflict()
    .merge({ state: 'present', gone_at: null, locked_until: point.lockedUntil });
}

async function seriesOf(trx: Knex.Transaction, now: number, targetId: string, point: FoundPoint): Promise<SeriesRow> {
  const known = await trx('series').where({ id: point.seriesId }).forUpdate().first<SeriesRow | undefined>();
  if (known) return known;
  const workloadId = await workloadOf(trx, now, point);
  const key = { workload_id: workloadId, target_id: targetId, method: methodOf(point.kind) };
  const taken = await trx('series')
    .where({ ...key, part: '' })
    .first<{ no: number } | undefined>('no');
  await trx('series').insert({ id: point.seriesId, ...key, part: taken ? point.seriesId : '' });
  return await trx('series').where({ id: point.seriesId }).forUpdate().first<SeriesRow>();
}

/** The workload of a source of this name and folder, made where there is none. A name that another folder has gets a number. */
async function workloadOf(trx: Knex.Transaction, now: number, point: FoundPoint): Promise<number> {
  const { workload } = point;
  const folder = Buffer.from(workload.path, 'latin1');
  const { sourceKind, known } = workloadOfPoint(point);
  const same = await trx('source as s')
    .join('workload as w', 'w.source_id', 's.id')
    .where({ 's.folder': folder, 's.kind': sourceKind, 'w.name': workload.name })
    .first<{ id: number } | undefined>('w.id');
  if (same) return same.id;
  let name = workload.name;
  for (let n = 2; await trx('source').where({ name }).first<{ id: number } | undefined>('id'); n++)
    name = `${workload.name.slice(0, 110)} (${n})`;
  const made = await trx('source').insert({
    name,
    kind: sourceKind,
    folder,
    location: '',
    read_as: null,
    cross_fs: false,
    created_at: now,
  });
  // its system is not connected here, so it is one that is gone: it can be restored elsewhere, and is not run
  const more = known && { ...known, facts: JSON.stringify(known.facts), gone_at: now };
  const [id] = (await trx('workload').insert({ source_id: made[0], name, created_at: now, ...more })) as [number];
  return id;
}
