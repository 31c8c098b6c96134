import { timingSafeEqual } from 'node:crypto';
import { IANAZone } from 'luxon';
import type { Body } from '@lithodex/contract';
import { appendAudit } from '../../base/audit/trail';
import { fromJson } from '../../base/db/json';
import { inTransaction } from '../../base/db/open';
import { ApiError } from '../../base/errors';
import { tokenHash } from '../../base/http/access';
import { hashPassword } from '../../records/people/passwords';
import type { Deps } from '../deps';
import { refuseWeak } from './password-strength';
import type { Account } from './steps';

const zoneSetting = 'zone';

/** Zone that was chosen for the installation; undefined where that of its configuration holds. */
export async function chosenZone(db: Deps['db']): Promise<string | undefined> {
  const row = await db('setting').where({ name: zoneSetting }).first<{ value: unknown } | undefined>('value');
  return row && fromJson<{ zone: string }>(row.value).zone;
}

/** Whether nobody has an account yet. */
export const nobodyYet = async (db: Deps['db']): Promise<boolean> => (await db('person').first('id')) === undefined;

const sameHash = (a: string, b: string) => timingSafeEqual(Buffer.from(a), Buffer.from(b));

/** Makes the first administrator. Of two who come with the same code, one is made. Throws CODE_REFUSED, INVALID, PASSWORD_WEAK. */
export async function makeFirst(deps: Deps, { code, name, display, password, zone }: Body<'makeFirstPerson'>): Promise<Account> {
  const { db, clock, config } = deps;
  if (config.firstCode === undefined || !sameHash(tokenHash(code), config.firstCode)) throw new ApiError('CODE_REFUSED');
  if (!IANAZone.isValidZone(zone)) throw new ApiError('INVALID', undefined, `There is no time zone "${zone}". Nothing was changed.`);
  await refuseWeak(password, name, display);
  const hash = await hashPassword(password);
  const account = await inTransaction(db, async (trx) => {
    const who = { name, display, role: 'administrator', password_hash: hash, must_change: false, created_at: clock.now() };
    // the trail is in one line, so who is first holds it until the account is there
    await appendAudit(trx, clock.now(), { actor: name, action: 'installation.start', object: 'installation', detail: zone });
    if (!(await nobodyYet(trx)))
      throw new ApiError('CODE_REFUSED', undefined, 'Somebody has an account here already. Sign in, or ask an administrator.');
    const [id] = (await trx('person').insert(who)) as [number];
    await trx('setting')
      .insert({ name: zoneSetting, value: JSON.stringify({ zone }) })
      .onConflict()
      .merge(['value']);
    return trx('person').where({ id }).first<Account>();
  });
  config.zone = zone;
  return account;
}
