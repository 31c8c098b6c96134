import type { Knex } from 'knex';
import { ApiError } from '../../base/errors';

const windowMs = 15 * 60_000;
/** Tries of one account from anywhere, and of anybody from one address, that may fail in a quarter of an hour. */
const [mostOfAccount, mostOfAddress] = [10, 30];
/** An address somebody signed in from within so long is theirs. */
const ownPlaceMs = 60 * 86_400_000;

/**
 * Refuses a try where too many failed lately. Whoever guesses at an account from elsewhere does not shut its owner out: from an address they signed in from before only what failed
 * there counts. Throws TOO_MANY_TRIES.
 */
export async function refuseTooMany(db: Knex, name: string, address: string): Promise<void> {
  const since = Date.now() - windowMs;
  const count = async (where: object) => {
    const row = await db('sign_in_failure').where(where).where('at', '>', since).count({ n: '*' }).first<{ n: number }>();
    return Number(row.n);
  };
  if ((await count({ address })) >= mostOfAddress) throw new ApiError('TOO_MANY_TRIES');
  if ((await count({ name, address })) >= mostOfAccount) throw new ApiError('TOO_MANY_TRIES');
  if ((await count({ name })) < mostOfAccount) return;
  const own = await db('sign_in_place as s')
    .join('person as p', 'p.id', 's.person_id')
    .where({ 'p.name': name, 's.address': address })
    .where('s.at', '>', Date.now() - ownPlaceMs)
    .first<{ person_id: number } | undefined>('s.person_id');
  if (!own)
    throw new ApiError(
      'TOO_MANY_TRIES',
      undefined,
      'Too many tries for this account. Wait a quarter of an hour, sign in from where you did before, or ask an administrator for a link.',
    );
}

export async function noteFailure(db: Knex, name: string, address: string): Promise<void> {
  await db('sign_in_failure')
    .where('at', '<', Date.now() - windowMs)
    .delete();
  await db('sign_in_failure').insert({ name: name.slice(0, 60), address, at: Date.now() });
}

/** Remembers where somebody signed in from, and forgets what failed there. */
export async function noteSuccess(db: Knex, person: { readonly id: number; readonly name: string }, address: string): Promise<void> {
  await db('sign_in_failure').where({ name: person.name, address }).delete();
  await db('sign_in_place').insert({ person_id: person.id, address, at: Date.now() }).onConflict().merge(['at']);
}
