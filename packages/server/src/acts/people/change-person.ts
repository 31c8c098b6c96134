import type { Role } from '@lithodex/contract';
import type { Knex } from 'knex';
import { appendAudit } from '../../base/audit/trail';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../deps';
import { ApiError, found } from '../../base/errors';
import type { Actor } from '../../base/http/access';
import { keyOfPerson, keyOfToken } from '../../base/http/open-calls';
import { rememberChange } from './second-person';

interface Account {
  readonly id: number;
  readonly name: string;
  readonly role: Role;
}

/** Ends what somebody has open: sessions, events and waiting calls, and their tokens. */
export async function endAccess(deps: Deps, trx: Knex.Transaction, personId: number, { tokens: withTokens = true } = {}): Promise<void> {
  await trx('session').where({ person_id: personId }).delete();
  deps.calls.end(keyOfPerson(personId));
  if (!withTokens) return;
  const tokens = await trx('api_token').where({ owner_id: personId }).select<{ id: number }[]>('id');
  await trx('api_token').where({ owner_id: personId }).delete();
  for (const { id } of tokens) deps.calls.end(keyOfToken(id));
}

/** Throws NOT_NOW where an account is the last administrator's. */
export async function keepOneAdministrator(trx: Knex.Transaction, account: Account): Promise<void> {
  const administrators = await trx('person').where({ role: 'administrator', disabled: false }).forUpdate().select<{ id: number }[]>('id');
  if (account.role === 'administrator' && administrators.every((a) => a.id === account.id))
    throw new ApiError('NOT_NOW', undefined, 'This is the last administrator: without one nobody could change anything any more.');
}

/** Remembers who made or changed an account. A token that belongs to nobody may be any administrator's. */
export async function changedBy(trx: Knex.Transaction, personId: number, actor: Actor): Promise<void> {
  const by =
    actor.personId !== null
      ? [actor.personId]
      : (await trx('person').where({ role: 'administrator' }).select<{ id: number }[]>('id')).map((p) => p.id);
  for (const id of by) await rememberChange(trx, personId, id);
}

export interface PersonBody {
  readonly display: string;
  readonly role: Role;
  readonly remit: readonly number[] | null;
}

/** Changes an account. Who has another role signs in anew, and the tokens they made in the old one end. `remember`: who did it. Throws NOT_FOUND, NOT_NOW. */
export async function changePerson(
  deps: Deps,
  id: number,
  { display, role, remit }: PersonBody,
  by: string,
  remember: (trx: Knex.Transaction) => Promise<void>,
): Promise<void> {
  await inTransaction(deps.db, async (trx) => {
    const row = found(
      await trx('person')
        .where({ id, disabled: false })
        .forUpdate()
        .first<(Account & { remit: unknown }) | undefined>('id', 'name', 'role', 'remit'),
    );
    if (role !== row.role) {
      await keepOneAdministrator(trx, row);
      await endAccess(deps, trx, id);
    }
    await trx('person')
      .where({ id })
      .update({ display, role, remit: remit ? JSON.stringify(remit) : null });
    await remember(trx);
    await appendAudit(trx, deps.clock.now(), {
      actor: by,
      action: 'person.change',
      object: `person ${row.name}`,
      detail: JSON.stringify({ display, role, remit }),
    });
  });
}
