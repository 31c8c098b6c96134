import type { Knex } from 'knex';
import type { Secrets } from '../../base/secrets';

const purpose = (taskId: string) => `edited text of task ${taskId}`;

/** Keeps what takes the place of what is stored in a restore, until its task has ended. */
export async function keepEdited(trx: Knex, secrets: Secrets, runId: number, text: string): Promise<void> {
  const { id } = await trx('task').where({ run_id: runId }).first<{ id: string }>('id');
  await trx('edited_text').insert({ task_id: id, sealed: secrets.seal(purpose(id), text) });
}

/** That text; undefined where it is not kept any more. */
export async function editedOf(trx: Knex, secrets: Secrets, taskId: string): Promise<string | undefined> {
  const row = await trx('edited_text').where({ task_id: taskId }).first<{ sealed: Buffer } | undefined>('sealed');
  return row && secrets.open(purpose(taskId), row.sealed);
}

/** Forgets texts whose tasks have ended. */
export async function forgetEdited(db: Knex): Promise<void> {
  await db('edited_text')
    .whereNotIn('task_id', db('task').whereIn('state', ['waiting', 'running']).select('id'))
    .delete();
}
