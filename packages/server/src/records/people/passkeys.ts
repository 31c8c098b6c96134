import {
  generateAuthenticationOptions,
  generateRegistrationOptions,
  verifyAuthenticationResponse,
  verifyRegistrationResponse,
  type AuthenticationResponseJSON,
  type AuthenticatorTransport,
  type RegistrationResponseJSON,
} from '@simplewebauthn/server';
import type { Request } from 'express';
import type { Knex } from 'knex';
import { fromJsonOrNull } from '../../base/db/json';
import { ApiError } from '../../base/errors';

interface PasskeyRow {
  readonly id: number;
  readonly credential: string;
  readonly public_key: Buffer;
  readonly counter: number;
  readonly transports: unknown;
}

/** Where a browser thinks it is: passkeys are for a name and no other, and only where that page can be trusted to be what it says. */
function placeOf(req: Request): { readonly origin: string; readonly rpID: string } {
  const rpID = req.hostname;
  if (req.protocol !== 'https' && rpID !== 'localhost')
    throw new ApiError('NOT_NOW', undefined, 'Passkeys work where this page is reached by HTTPS, or as localhost. Nothing was changed.');
  return { origin: `${req.protocol}://${req.get('host') ?? rpID}`, rpID };
}

const transportsOf = (row: PasskeyRow) => fromJsonOrNull<AuthenticatorTransport[]>(row.transports) ?? [];
const rowsOf = (db: Knex, personId: number): Promise<PasskeyRow[]> => db('passkey').where({ person_id: personId }).select<PasskeyRow[]>();

/** What a browser needs to make a passkey; the challenge is remembered in the session. */
export async function offerPasskey(db: Knex, req: Request, person: { id: number; name: string; display: string }) {
  const known = await rowsOf(db, person.id);
  const options = await generateRegistrationOptions({
    rpName: 'Lithodex',
    rpID: placeOf(req).rpID,
    userName: person.name,
    userDisplayName: person.display,
    userID: new TextEncoder().encode(`person ${person.id}`),
    attestationType: 'none',
    excludeCredentials: known.map((k) => ({ id: k.credential, transports: transportsOf(k) })),
    authenticatorSelection: { residentKey: 'preferred', userVerification: 'preferred' },
  });
  req.session.challenge = options.challenge;
  return options;
}

/** Keeps a passkey that a browser made for the remembered challenge. Throws SECOND_REFUSED. */
export async function takePasskey(db: Knex, req: Request, personId: number, name: string, response: unknown): Promise<void> {
  const { origin, rpID } = placeOf(req);
  const expectedChallenge = req.session.challenge;
  delete req.session.challenge;
  if (!expectedChallenge) throw new ApiError('SECOND_REFUSED');
  const { verified, registrationInfo } = await verifyRegistrationResponse({
    response: response as RegistrationResponseJSON,
    expectedChallenge,
    expectedOrigin: origin,
    expectedRPID: rpID,
    requireUserVerification: false,
  }).catch(() => ({ verified: false, registrationInfo: undefined }));
  if (!verified || !registrationInfo)
    throw new ApiError('SECOND_REFUSED', undefined, 'The browser made no passkey that fits. Nothing was changed.');
  const { credential } = registrationInfo;
  await db('passkey').insert({
    person_id: personId,
    name,
    credential: credential.id,
    public_key: Buffer.from(credential.publicKey),
    counter: credential.counter,
    transports: JSON.stringify(credential.transports ?? []),
    created_at: Date.now(),
  });
}

/** What a browser needs to ask for one of somebody's passkeys. */
export async function askPasskey(db: Knex, req: Request, personId: number) {
  const known = await rowsOf(db, personId);
  const options = await generateAuthenticationOptions({
    rpID: placeOf(req).rpID,
    allowCredentials: known.map((k) => ({ id: k.credential, transports: transportsOf(k) })),
    userVerification: 'preferred',
  });
  req.session.challenge = options.challenge;
  return options;
}

/** Whether a browser has shown one of somebody's passkeys for the remembered challenge, which is good once. */
export async function passkeyFits(db: Knex, req: Request, personId: number, response: unknown): Promise<boolean> {
  const { origin, rpID } = placeOf(req);
  const expectedChallenge = req.session.challenge;
  delete req.session.challenge;
  const shown = response as AuthenticationResponseJSON;
  const row = (await rowsOf(db, personId)).find((k) => k.credential === shown.id);
  if (!expectedChallenge || !row) return false;
  const { verified, authenticationInfo } = await verifyAuthenticationResponse({
    response: shown,
    expectedChallenge,
    expectedOrigin: origin,
    expectedRPID: rpID,
    requireUserVerification: false,
    credential: { id: row.credential, publicKey: new Uint8Array(row.public_key), counter: row.counter, transports: transportsOf(row) },
  }).catch(() => ({ verified: false, authenticationInfo: undefined }));
  if (!verified || !authenticationInfo) return false;
  await db('passkey').where({ id: row.id }).update({ counter: authenticationInfo.newCounter, used_at: Date.now() });
  return true;
}
