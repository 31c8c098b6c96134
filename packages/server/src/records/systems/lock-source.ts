import type { Knex } from 'knex';

/** Holds a source until the transaction ends, so that what was found there is brought into the estate by one after the other: one that was just connected may be read by two at once. */
export async function lockSource(trx: Knex.Transaction, id: number): Promise<void> {
  await trx('source').where({ id }).forUpdate().first('id');
}
