import { inTransaction } from '../../base/db/open';
import type { Deps } from '../deps';
import { settleRun } from '../runs/queue';
import { windowEnded } from '../../records/runs/time-causes';

/** Ends what may not go on: tasks still waiting when their window has closed do not start, and those that run are cut off where the policy says so; those that follow a log end by themselves. */
export async function endWindows(deps: Deps): Promise<void> {
  const now = deps.clock.now();
  type Over = { id: number; window_stop: 0 | 1 };
  const over = await deps
    .db('run')
    .whereIn('state', ['waiting', 'running'])
    .where('window_ends', '<=', now)
    .select<Over[]>('id', 'window_stop');
  for (const run of over) {
    const changed = await inTransaction(deps.db, async (trx) => {
      const waiting = await trx('task')
        .where({ run_id: run.id, state: 'waiting', type: 'backup' })
        .update({ state: 'notStarted', ended_at: now, cause: JSON.stringify(windowEnded) });
      const running = run.window_stop
        ? await trx('task')
            .where({ run_id: run.id, state: 'running', type: 'backup', cut_off: false, follows: false })
            .update({ stop_requested: true, cut_off: true })
        : 0;
      if (waiting) await settleRun(deps, trx, run.id);
      return waiting + running > 0;
    });
    if (changed) await deps.events.emit('run', { runId: run.id });
  }
}
