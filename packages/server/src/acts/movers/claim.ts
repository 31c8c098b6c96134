import type { Claim, ClaimedTask } from '@lithodex/contract';
import type { Knex } from 'knex';
import type { z } from 'zod';
import { unload } from '../../records/catalog/load';
import { ordinalStep } from '../../records/catalog/ordinals';
import type { SeriesRow } from '../../records/catalog/points';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../deps';
import { stillGood, type Actor } from '../../base/http/access';
import { settleRun } from '../runs/queue';
import { isFull, whereAdmitted } from '../../records/movers/admission';
import { workFor } from '../../base/http/duties';
import { moverTerms } from '../../records/movers/mover-terms';
import { paceOfTask } from '../../records/movers/pace';
import { madePoints } from '../../records/runs/run-state';
import { typesInSql } from '../../records/movers/types-in-sql';
import { patienceMs } from './follow-on';
import { workOf, type QueuedTask } from './work-of';

const reading = typesInSql((t) => t.readsSource);
const changing = typesInSql((t) => t.changesSeries);

/** Where the data of a task `t` is: what is read of a source is where that stands, all else where the target does. */
const placeOfTask = `IF(t.type IN (${reading}),
  (SELECT COALESCE(JSON_VALUE(w.facts, '$.location'), s.location) FROM workload w JOIN source s ON s.id = w.source_id WHERE w.id = t.workload_id),
  (SELECT g.location FROM target g WHERE g.id = JSON_VALUE(t.work, '$.targetId')))`;

/** The system whose credentials a task `t` carries; NULL for none: the mover that was named to read a source gets them besides. */
const systemOfTask = `IF(t.type IN ('restore', 'runMachine', 'drill'),
  COALESCE(JSON_VALUE(t.work, '$.to.platformId'), JSON_VALUE(t.work, '$.to.sourceId'), JSON_VALUE(t.work, '$.platformId'), JSON_VALUE(t.work, '$.systemId')),
  (SELECT s.id FROM workload w JOIN source s ON s.id = w.source_id
   WHERE w.id = t.workload_id AND s.kind <> 'files' AND s.read_by IS NULL AND t.type IN (${reading})))`;

/** The system that keeps what a task `t` reads, where no target of ours does. */
const openedByTask = "JSON_VALUE(t.work, '$.opens')";

/** The only mover that reads the source of a task `t`; NULL for any. */
const readerOfTask = `(SELECT s.read_by FROM workload w JOIN source s ON s.id = w.source_id WHERE w.id = t.workload_id AND t.type IN (${reading}))`;

type Asker = Pick<z.infer<typeof Claim>, 'receives' | 'follows'> & { readonly mover: string; readonly actor: Actor };

/** How often another mover may take what was chosen before this one waits like all. */
const mostLost = 40;

/**
 * Gives the first waiting task (by priority, then by how near its data is, then by age) whose series is free, and that its duties cover, to a mover, with a lease. `receives`: movers that only read
 * can bring it what they read; `follows`: it asks for a log to follow, which takes no place of other work. It is chosen without holding anything, so that one that looks never hides a task from another.
 */
export async function claimTask(deps: Deps, asker: Asker): Promise<ClaimedTask | undefined> {
  const { drained, place } = await moverTerms(deps.db, asker.mover);
  if (drained) return undefined;
  // most who ask are told that there is nothing: that takes no look at what may go beside what
  if (!(await deps.db('task').where({ state: 'waiting', follows: asker.follows }).first('id'))) return undefined;
  for (let lost = 0; lost < mostLost; lost++) {
    const chosen = await whatItMayDo(deps, deps.db, asker)
      .orderBy('t.priority')
      .modify((q) => {
        if (place) void q.orderByRaw(`CASE COALESCE(${placeOfTask}, '') WHEN ? THEN 0 WHEN '' THEN 1 ELSE 2 END`, [place]);
      })
      .orderBy(['t.queued_at', 't.id'])
      .first<{ id: string; series_no: number | null } | undefined>('t.id', 't.series_no');
    if (!chosen) return undefined;
    const claimed = await inTransaction(deps.db, (trx) => take(deps, trx, asker, chosen));
    if (claimed === 'full') return undefined;
    if (claimed === 'lost') continue;
    await deps.events.emit('run', { runId: claimed.runId, taskId: claimed.id });
    return claimed;
  }
  return undefined;
}

/** The waiting tasks `t` that it may be given now. */
function whatItMayDo(deps: Deps, db: Knex, { mover, receives, follows, actor: { duties, systems } }: Asker): Knex.QueryBuilder {
  const readers = [mover, ...(receives ? deps.movers.readersOnly() : [])];
  return (
    db('task as t')
      .where({ 't.state': 'waiting', 't.follows': follows })
      .whereIn('t.type', workFor(duties))
      .whereNotExists(
        db('task as o')
          .whereRaw('o.series_no = t.series_no')
          .where('o.state', 'running')
          .whereRaw(`t.type IN (${changing}) AND o.type IN (${changing})`),
      )
      // what was needless after the run before it is removed first
      .whereNotExists(
        db('task as e')
          .whereRaw("t.follows = 1 AND e.series_no = t.series_no AND e.id <> t.id AND e.state = 'waiting'")
          .whereRaw(`e.type IN (${changing})`)
          .where('e.queued_at', '>', deps.clock.now() - patienceMs),
      )
      // what is replaced has to stand in a point first
      .whereNotExists(
        db('run as r')
          .join('run as b', 'b.id', 'r.after_run')
          .whereRaw('r.id = t.run_id')
          .whereNotIn('b.state', [...madePoints]),
      )
      // a verification would take a root that expires meanwhile for lost
      .whereNotExists(
        db('task as v')
          .where({ 'v.type': 'verify', 'v.state': 'running' })
          .whereRaw("t.type = 'expire' AND JSON_VALUE(v.work, '$.targetId') = JSON_VALUE(t.work, '$.targetId')"),
      )
      // points are fitted into series that nobody else writes to meanwhile
      .whereNotExists(
        db('task as a')
          .where('a.state', 'running')
          .whereRaw("JSON_VALUE(a.work, '$.targetId') = JSON_VALUE(t.work, '$.targetId')")
          .whereRaw(`((a.type = 'adopt' AND t.type IN (${changing})) OR (t.type = 'adopt' AND a.type IN (${changing})))`),
      )
      // what a machine has written that runs from the store is with the mover that had it
      .whereRaw("(t.type <> 'runMachine' OR COALESCE(JSON_VALUE(t.work, '$.heldBy'), ?) = ?)", [mover, mover])
      // a unit comes to a mover that can be reached
      .modify((q) => {
        if (!receives) void q.whereRaw("JSON_VALUE(t.work, '$.to.unit.name') IS NULL");
      })
      .whereRaw(`COALESCE(${readerOfTask}, ?) IN (${readers.map(() => '?').join(', ')})`, [mover, ...readers])
      .modify((q) => {
        if (systems !== null)
          for (const opened of [systemOfTask, openedByTask])
            void q.whereRaw(`COALESCE(${opened}, 0) IN (${['0', ...systems.map(() => '?')].join(', ')})`, [...systems]);
        if (!duties.includes('capture')) void q.whereRaw(`${openedByTask} IS NULL`);
      })
      .modify(whereAdmitted)
  );
}

/** Gives out the task that was chosen, if nobody took it or its series meanwhile and there is still room. */
async function take(
  deps: Deps,
  trx: Knex.Transaction,
  asker: Asker,
  chosen: { readonly id: string; readonly series_no: number | null },
): Promise<ClaimedTask | 'lost' | 'full'> {
  const { mover, actor } = asker;
  if (chosen.series_no !== null) await trx('series').where({ no: chosen.series_no }).forUpdate().first('no');
  if (!(await trx('task').where({ id: chosen.id, state: 'waiting' }).forUpdate().first('id'))) return 'lost';
  const task = await whatItMayDo(deps, trx, asker).where('t.id', chosen.id).first<QueuedTask | undefined>('t.*');
  if (!task) return 'lost';
  if (await isFull(trx, task)) return 'full';
  await stillGood(trx, actor);
  const attempt = task.attempt + 1;
  const now = deps.clock.now();
  if (task.type === 'adopt' && task.ordinal !== null && task.series_no !== null) await unload(trx, task.series_no, task.ordinal);
  const ordinal = task.type === 'backup' ? await reserveOrdinal(trx, task) : null;
  if (task.type === 'runMachine')
    await trx('task')
      .where({ id: task.id })
      .update({ work: trx.raw("JSON_SET(work, '$.heldBy', ?)", [mover]) });
  const work = await workOf(trx, deps.secrets, task, now, mover);
  await trx('task')
    .where({ id: task.id })
    .update({
      state: 'running',
      attempt,
      mover,
      token_id: actor.tokenId,
      lease_until: Date.now() + deps.config.leaseMs,
      started_at: task.started_at ?? now,
      ordinal,
      ...(task.type === 'adopt' && { series_no: null }),
    });
  await settleRun(deps, trx, task.run_id);
  const pace = await paceOfTask(trx, deps.config.zone, now, task);
  return { id: task.id, runId: task.run_id, attempt, leaseMs: deps.config.leaseMs, serverNow: now, pace, work };
}

/** The ordinal the point of this task will have; kept over attempts, with what an earlier attempt loaded taken back. */
async function reserveOrdinal(trx: Knex.Transaction, task: QueuedTask): Promise<number> {
  const series = await trx('series').where({ no: task.series_no }).forUpdate().first<SeriesRow>();
  if (task.ordinal !== null) {
    await unload(trx, series.no, task.ordinal);
    return task.ordinal;
  }
  const ordinal = series.last_ordinal + ordinalStep;
  await trx('series').where({ no: series.no }).update({ last_ordinal: ordinal });
  return ordinal;
}
