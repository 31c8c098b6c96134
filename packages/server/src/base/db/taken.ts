import type { Knex } from 'knex';
import { ApiError } from '../errors';

/** Throws NAME_TAKEN when the query finds a row. */
export async function refuseTaken(query: Knex.QueryBuilder, message?: string): Promise<void> {
  if (await query.first()) throw new ApiError('NAME_TAKEN', undefined, message);
}

/** Whether an insert or update failed for a key that is there already: two people took the same name at once. */
export function isTaken(error: unknown): boolean {
  return (error as { code?: string } | undefined)?.code === 'ER_DUP_ENTRY';
}
