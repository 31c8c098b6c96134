import type { Knex } from 'knex';
import { ApiError } from '../errors';
import type { Actor } from '../http/access';

export interface RunningTask {
  readonly id: string;
  readonly run_id: number;
  readonly workload_id: number | null;
  readonly series_no: number | null;
  readonly type: string;
  readonly attempt: number;
  readonly ordinal: number | null;
  readonly stop_requested: 0 | 1;
  /** Its window ended while it ran. */
  readonly cut_off: 0 | 1;
  readonly started_at: number;
  readonly work: unknown;
}

/** The task, if this attempt still holds its lease and it was given to this mover. Throws LEASE_LOST. Locks the row in a transaction. */
export async function heldTask(db: Knex | Knex.Transaction, id: string, attempt: number, mover: Actor): Promise<RunningTask> {
  const query = db('task').where({ id, attempt, state: 'running', token_id: mover.id });
  const task = await (db.isTransaction ? query.forUpdate() : query).first<RunningTask | undefined>();
  if (!task) throw new ApiError('LEASE_LOST');
  return task;
}
