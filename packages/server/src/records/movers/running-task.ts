import type { Work } from '@lithodex/contract';
import type { Knex } from 'knex';
import { ApiError } from '../../base/errors';
import type { Actor } from '../../base/http/access';
import { workFor } from '../../base/http/duties';

export interface RunningTask {
  readonly id: string;
  readonly run_id: number;
  readonly workload_id: number | null;
  readonly series_no: number | null;
  readonly type: Work['type'];
  readonly attempt: number;
  readonly ordinal: number | null;
  readonly stop_requested: 0 | 1;
  /** Its window ended while it ran. */
  readonly cut_off: 0 | 1;
  readonly started_at: number;
  readonly work: unknown;
  /** It follows a log: it takes points one after another. */
  readonly follows: 0 | 1;
  /** The point that it takes, where that is not its first. */
  readonly point_id: string | null;
  readonly mover: string;
}

/** Name of the point that a task takes. */
export const pointIdOf = ({ id, point_id }: Pick<RunningTask, 'id' | 'point_id'>): string => point_id ?? id;

/**
 * The task, if this attempt still holds its lease and it was given to this mover. Throws LEASE_LOST, and NOT_ALLOWED where what is told does not belong to tasks of its type or to the duties of the mover. Locks the
 * row in a transaction.
 * @param types what may tell this; any type when left out
 */
export async function heldTask(
  db: Knex | Knex.Transaction,
  id: string,
  attempt: number,
  mover: Actor,
  types?: readonly Work['type'][],
): Promise<RunningTask> {
  const query = db('task').where({ id, attempt, state: 'running', token_id: mover.tokenId });
  const task = await (db.isTransaction ? query.forUpdate() : query).first<RunningTask | undefined>();
  if (!task) throw new ApiError('LEASE_LOST');
  if ((types && !types.includes(task.type)) || !workFor(mover.duties).includes(task.type))
    throw new ApiError('NOT_ALLOWED', undefined, `A task of type ${task.type} has nothing of this kind to tell.`);
  return task;
}
