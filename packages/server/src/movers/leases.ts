import type { Cause } from '@lithodex/contract';
import type { Deps } from '../deps';
import { inTransaction } from '../db/open';
import { unload } from '../catalog/load';
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

/** Puts tasks whose mover went silent back into the queue; after too many attempts they fail with the cause. */
export async function reclaimLost(deps: Deps): Promise<void> {
  type Row = {
    id: string;
    run_id: number;
    attempt: number;
    type: string;
    stop_requested: 0 | 1;
    series_no: number | null;
    ordinal: number | null;
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
      const again = task.attempt < mostAttempts && task.type !== 'download' && task.type !== 'trial' && !task.stop_requested;
      if (again) await trx('task').where({ id }).update({ state: 'waiting', mover: null, lease_until: null, progress: null });
      else {
        if (task.series_no !== null && task.ordinal !== null) await unload(trx, task.series_no, task.ordinal);
        await trx('task')
          .where({ id })
          .update({
            state: task.stop_requested ? 'stopped' : 'failed',
            lease_until: null,
            progress: null,
            ended_at: deps.clock.now(),
            cause: JSON.stringify(task.stop_requested ? stopped : lost),
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

/** Ends tasks that a person stopped before any mover took them. */
export const stoppedCause = stopped;
