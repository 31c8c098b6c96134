import type { Knex } from 'knex';
import type { Deps } from '../deps';
import { stoppedCause } from '../movers/leases';
import { settleRun } from './queue';

/** Stops the tasks of a run: those that wait at once, those that run as soon as their mover hears of it. */
export async function stopRun(deps: Deps, trx: Knex.Transaction, runId: number): Promise<void> {
  await trx('task')
    .where({ run_id: runId, state: 'waiting' })
    .update({ state: 'stopped', ended_at: deps.clock.now(), cause: JSON.stringify(stoppedCause) });
  await trx('task').where({ run_id: runId, state: 'running' }).update({ stop_requested: true });
  await settleRun(deps, trx, runId);
}
