import { taskTypes, type Cause, type RunState, type WorkType } from '@lithodex/contract';
import type { Knex } from 'knex';
import type { Deps } from '../deps';
import { inTransaction } from '../../base/db/open';
import { unload } from '../../records/catalog/load';
import type { PointRow } from '../../records/catalog/points';
import { pointIdOf, type RunningTask } from '../../records/movers/running-task';
import { settleRun } from '../runs/queue';

const mostAttempts = 5;
const lost: Cause = {
  code: 'MOVER_LOST',
  message: 'The mover stopped answering, several times in a row.',
  remedy: 'Look at the log of the mover and start it again, then retry. What was stored so far is used again.',
};
const stopped: Cause = {
  code: 'STOPPED',
  message: 'A person stopped it.',
  remedy: 'Retry when it suits. What was stored so far is used again.',
};

/** Why a task ended whose window closed while it ran. */
export const cutOff: Cause = {
  code: 'WINDOW_ENDED',
  message: 'Its window ended while it ran, so it was cut off.',
  remedy: 'Give it a longer window or an earlier start, or more movers. What was stored so far is used again.',
};

/** The state of a task that did not come to its own end. */
export function endedBy<T extends 'failed' | 'stopped'>(outcome: T, task: { readonly cut_off: 0 | 1 }): T | 'cutOff' {
  return outcome === 'stopped' && task.cut_off ? 'cutOff' : outcome;
}

/** Puts tasks whose mover went silent back into the queue; after too many attempts they fail with the cause. */
export async function reclaimLost(deps: Deps): Promise<void> {
  type Row = {
    id: string;
    run_id: number;
    attempt: number;
    type: WorkType;
    stop_requested: 0 | 1;
    cut_off: 0 | 1;
    series_no: number | null;
    ordinal: number | null;
    point_id: string | null;
  };
  const silent = await deps.db('task').where({ state: 'running' }).where('lease_until', '<', Date.now()).select<{ id: string }[]>('id');
  for (const { id } of silent) {
    const runId = await inTransaction(deps.db, async (trx) => {
      const task = await trx('task')
        .where({ id, state: 'running' })
        .where('lease_until', '<', Date.now())
        .forUpdate()
        .first<Row | undefined>();
      if (!task) return undefined;
      if (await endCommitted(trx, task, deps.clock.now())) {
        await settleRun(deps, trx, task.run_id);
        return task.run_id;
      }
      const again = (task.attempt < mostAttempts || taskTypes[task.type].stays) && taskTypes[task.type].resumes && !task.stop_requested;
      if (again) await trx('task').where({ id }).update({ state: 'waiting', mover: null, lease_until: null, progress: null });
      else {
        if (task.series_no !== null && task.ordinal !== null) await unload(trx, task.series_no, task.ordinal);
        await trx('task')
          .where({ id })
          .update({
            state: endedBy(task.stop_requested ? 'stopped' : 'failed', task),
            lease_until: null,
            progress: null,
            ended_at: deps.clock.now(),
            cause: JSON.stringify(task.cut_off ? cutOff : task.stop_requested ? stopped : lost),
          });
      }
      await settleRun(deps, trx, task.run_id);
      return task.run_id;
    });
    if (runId !== undefined) {
      await deps.events.emit('run', { runId, taskId: id });
      deps.movers.workAppeared();
    }
  }
}

/**
 * Ends a task whose point is visible already: its mover went silent between the commit and the report. Nothing of it may be loaded or taken back again.
 * False when there is no such point.
 */
async function endCommitted(trx: Knex.Transaction, task: Pick<RunningTask, 'id' | 'point_id'>, now: number): Promise<boolean> {
  const point = await trx('point')
    .where({ id: pointIdOf(task) })
    .first<PointRow | undefined>();
  if (!point) return false;
  const state: RunState = point.suspect ? 'held' : point.complete ? (point.warnings > 0 ? 'remarks' : 'done') : 'partsMissing';
  const { items, files, bytes, read_bytes: read, stored, warnings } = point;
  const counts = { items, files, bytes, read, stored, warnings, failed: 0, missing: point.complete ? 0 : 1 };
  await trx('task')
    .where({ id: task.id })
    .update({ state, ended_at: now, lease_until: null, progress: null, counts: JSON.stringify(counts) });
  return true;
}

/** Why a task ended that a person stopped before any mover took it. */
export const stoppedCause = stopped;
