import type { Knex } from 'knex';
import { ApiError } from '../../base/errors';

/** Refuses to write to a store that another installation owns. Throws NOT_NOW. */
export async function mustBeOurs(db: Knex, targetId: string): Promise<void> {
  const target = await db('target')
    .where({ id: targetId })
    .first<{ name: string; follows_every: number | null } | undefined>('name', 'follows_every');
  if (target?.follows_every != null)
    throw new ApiError(
      'NOT_NOW',
      undefined,
      `${target.name} belongs to another installation, which is followed: nothing is written there.`,
    );
}
