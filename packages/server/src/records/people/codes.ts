import { createHash, randomBytes } from 'node:crypto';
import { Secret, TOTP } from 'otpauth';
import QRCode from 'qrcode';
import type { CodeOffer } from '@lithodex/contract';
import type { Knex } from 'knex';
import { fromJsonOrNull } from '../../base/db/json';
import type { Secrets } from '../../base/secrets';

const periodS = 30;
/** Codes of the period before and after are taken too: clocks differ. */
const window = 1;
const recoveryCodes = 10;
const purpose = (personId: number) => `code ${personId}`;

const totpOf = (secret: Secret, label: string) => new TOTP({ issuer: 'Lithodex', label, secret, period: periodS, digits: 6 });

/** A new secret for codes (RFC 6238), sealed, and how it is shown to its owner. */
export async function offerOf(secrets: Secrets, personId: number, label: string): Promise<{ sealed: string; offer: CodeOffer }> {
  const secret = new Secret({ size: 20 });
  const address = totpOf(secret, label).toString();
  const picture = await QRCode.toString(address, { type: 'svg', margin: 1 });
  return { sealed: secrets.seal(purpose(personId), secret.base32).toString('base64'), offer: { address, secret: secret.base32, picture } };
}

/** The counter of the period a code was made in, when it fits a sealed secret and is newer than the last one that was taken; undefined when not. */
export function counterOf(secrets: Secrets, personId: number, sealed: string, code: string, last: number): number | undefined {
  const secret = Secret.fromBase32(secrets.open(purpose(personId), Buffer.from(sealed, 'base64')));
  const delta = totpOf(secret, '').validate({ token: code, window });
  if (delta === null) return undefined;
  const counter = Math.floor(Date.now() / 1000 / periodS) + delta;
  return counter > last ? counter : undefined;
}

const hashOf = (code: string) => createHash('sha256').update(code.replace(/[\s-]/g, '').toLowerCase()).digest('hex');

/** New recovery codes of 50 bits in the place of the old ones; only their sums are kept. */
export async function renewRecovery(trx: Knex, personId: number): Promise<string[]> {
  const letters = 'abcdefghjkmnpqrstuvwxyz23456789x';
  const codes = Array.from({ length: recoveryCodes }, () => {
    const text = [...randomBytes(10)].map((byte) => letters[byte & 31]).join('');
    return `${text.slice(0, 5)}-${text.slice(5)}`;
  });
  await trx('person')
    .where({ id: personId })
    .update({ recovery: JSON.stringify(codes.map(hashOf)) });
  return codes;
}

/** Takes a recovery code, which is used up by that. False when there is none such. */
export async function takeRecovery(trx: Knex.Transaction, personId: number, code: string): Promise<boolean> {
  const row = await trx('person').where({ id: personId }).forUpdate().first<{ recovery: unknown }>('recovery');
  const left = fromJsonOrNull<string[]>(row.recovery) ?? [];
  const hash = hashOf(code);
  if (!left.includes(hash)) return false;
  await trx('person')
    .where({ id: personId })
    .update({ recovery: JSON.stringify(left.filter((h) => h !== hash)) });
  return true;
}
