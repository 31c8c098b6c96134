import { OrganisationBody, type SignInSettings } from '@lithodex/contract';
import type { Knex } from 'knex';
import { z } from 'zod';
import { fromJson } from '../../base/db/json';
import { ApiError } from '../../base/errors';
import type { Secrets } from '../../base/secrets';

const setting = 'organisation';
const Stored = OrganisationBody.omit({ clientSecret: true }).extend({ secret: z.string() });

/** How the organisation lets people in, without what opens it; null where it does not. */
export async function organisationOf(db: Knex): Promise<z.output<typeof Stored> | null> {
  const row = await db('setting').where({ name: setting }).first<{ value: unknown } | undefined>('value');
  return row ? Stored.parse(fromJson(row.value)) : null;
}

export async function shownOrganisation(db: Knex): Promise<SignInSettings['organisation']> {
  const known = await organisationOf(db);
  if (!known) return null;
  const { secret, ...rest } = known;
  return { ...rest, secretKept: secret !== '' };
}

export const secretOf = (secrets: Secrets, sealed: string): string => secrets.open(setting, Buffer.from(sealed, 'base64'));

/** How the organisation would let people in; a kept secret goes on only for the issuer and client it was given for. Throws INVALID. */
export async function changedOrganisation(
  db: Knex,
  secrets: Secrets,
  { clientSecret, ...body }: z.output<typeof OrganisationBody>,
): Promise<z.output<typeof Stored>> {
  const known = await organisationOf(db);
  const same = known?.issuer === body.issuer && known.clientId === body.clientId;
  if (clientSecret === undefined && !same)
    throw new ApiError(
      'INVALID',
      [{ at: 'body.clientSecret' }],
      'Give the secret of the client. One that was given for another issuer or client is not sent to this one. Nothing was changed.',
    );
  return { ...body, secret: clientSecret === undefined ? known!.secret : secrets.seal(setting, clientSecret).toString('base64') };
}

export async function keepOrganisation(trx: Knex, organisation: z.output<typeof Stored>): Promise<void> {
  const value = JSON.stringify(organisation);
  await trx('setting').insert({ name: setting, value }).onConflict().merge({ value });
}

export async function dropOrganisation(trx: Knex): Promise<void> {
  await trx('setting').where({ name: setting }).delete();
}
