import { randomBytes, randomInt, timingSafeEqual } from 'node:crypto';
import type { ByWhat } from '@lithodex/contract';
import type { Request } from 'express';
import { ApiError } from '../../base/errors';
import { tokenHash } from '../../base/http/access';
import { noteFailure, refuseTooMany } from '../../records/people/tries';
import { rulesOf } from '../../records/people/rules';
import { mailOf } from '../../records/recover/asking-rows';
import type { Deps } from '../deps';
import { sendMail, wordsOf } from '../notices/deliver';
import { composeCode } from '../recover/asking-words';
import { auditSignIn, placeOf, renew } from './steps';

const codeMinutes = 10;
const mostTries = 5;
const idleMs = 15 * 60_000;

/** Somebody of an office tenant on their way in. */
export interface Entering {
  readonly workloadId: number;
  readonly askingId: number | null;
  readonly name: string;
  readonly mail: string;
}

type Row = { id: number; name: string; facts: unknown; asking: number | null };
const enteringOf = ({ id, name, facts, asking }: Row): Entering => ({ workloadId: id, askingId: asking, name, mail: mailOf(facts) });

/** Whom a link is for. Throws CODE_REFUSED for one that is none, or none any more. */
export async function enteringByLink(deps: Deps, link: string): Promise<Entering> {
  const row = await deps
    .db('asking as a')
    .join('workload as w', 'w.id', 'a.workload_id')
    .where({ 'a.hash': tokenHash(link) })
    .whereNot('a.state', 'withdrawn')
    .where('a.ends_at', '>', deps.clock.now())
    .first<Row | undefined>('w.id', 'w.name', 'w.facts', 'a.id as asking');
  if (!row) throw new ApiError('CODE_REFUSED', undefined, 'This link has ended, or was taken back. Ask the desk for a new one.');
  return enteringOf(row);
}

/** Who has an address, where people may sign in by themselves; undefined for nobody, or several. Throws NOT_ALLOWED. */
export async function enteringByAddress(deps: Deps, address: string): Promise<Entering | undefined> {
  if (!(await rulesOf(deps.db)).selfService)
    throw new ApiError('NOT_ALLOWED', undefined, 'People do not sign in by themselves here. Ask the desk for a link.');
  const rows = await deps
    .db('workload')
    .where({ kind: 'tenant' })
    .whereNull('gone_at')
    .whereRaw("JSON_VALUE(facts, '$.type') = 'person' AND LOWER(JSON_VALUE(facts, '$.mail')) = ?", [address.toLowerCase()])
    .limit(2)
    .select<Row[]>('id', 'name', 'facts', deps.db.raw('NULL AS asking'));
  return rows.length === 1 && rows[0] ? enteringOf(rows[0]) : undefined;
}

/** An address as it may be shown to whoever holds the link. */
export const masked = (address: string): string => address.replace(/^(.)[^@]*/, '$1…');

/** What tries are counted by, without saying whose they are. */
const triedAs = (by: ByWhat) => `own ${tokenHash('link' in by ? by.link : by.address.toLowerCase()).slice(0, 40)}`;
const hashOf = (entering: Entering, code: string) => tokenHash(`${entering.workloadId} ${entering.askingId ?? 0} ${code}`);
const keyOf = ({ workloadId, askingId }: Entering) => ({ workload_id: workloadId, asking_id: askingId ?? 0 });

async function mailCode(deps: Deps, entering: Entering): Promise<void> {
  const code = String(randomInt(1_000_000)).padStart(6, '0');
  const row = { ...keyOf(entering), hash: hashOf(entering, code), until: Date.now() + codeMinutes * 60_000, tries: 0 };
  await deps.db('own_code').where('until', '<', Date.now()).delete();
  await deps.db('own_code').insert(row).onConflict().merge(['hash', 'until', 'tries']);
  const id = `code-${randomBytes(9).toString('hex')}.${deps.secrets.installation}`;
  await sendMail(deps, entering.mail, composeCode(code, codeMinutes), id);
  await auditSignIn(deps, entering.name, 'own.code', masked(entering.mail));
}

/**
 * Sends a code to the mailbox of whoever wants to sign in; says where to, as it may be shown. For an address that nobody has nothing is sent, and the answer is the same.
 * Throws CODE_REFUSED, NOT_ALLOWED, TOO_MANY_TRIES, NOTICE_FAILED.
 */
export async function sendOwnCode(deps: Deps, req: Request, by: ByWhat): Promise<string> {
  await refuseTooMany(deps.db, triedAs(by), placeOf(req));
  await noteFailure(deps.db, triedAs(by), placeOf(req));
  if ('address' in by) {
    const entering = await enteringByAddress(deps, by.address);
    // not waited for: how long it takes would tell whether somebody has the address
    if (entering)
      void deps.answers.follow(mailCode(deps, entering)).catch((error: unknown) => {
        deps.log.warn({ err: error }, 'a code could not be sent');
      });
    return masked(by.address);
  }
  const entering = await enteringByLink(deps, by.link);
  if (entering.mail === '') throw new ApiError('NOTICE_FAILED', undefined, 'No address is known to send a code to. Ask the desk.');
  await mailCode(deps, entering).catch((error: unknown) => {
    throw new ApiError('NOTICE_FAILED', undefined, `The code could not be sent. ${wordsOf(error)}`);
  });
  return masked(entering.mail);
}

/** Signs somebody in for themselves only, by the code from their mailbox. Throws CODE_REFUSED, NOT_ALLOWED, TOO_MANY_TRIES. */
export async function takeOwnCode(deps: Deps, req: Request, by: ByWhat, code: string): Promise<void> {
  const { db } = deps;
  const tried = triedAs(by);
  await refuseTooMany(db, tried, placeOf(req));
  const entering = 'link' in by ? await enteringByLink(deps, by.link) : await enteringByAddress(deps, by.address);
  const refuse = async () => {
    await noteFailure(db, tried, placeOf(req));
    await auditSignIn(deps, entering?.name ?? 'nobody', 'own.refused', placeOf(req));
    return new ApiError('CODE_REFUSED');
  };
  if (!entering) throw await refuse();
  const open = () => db('own_code').where(keyOf(entering)).where('until', '>', Date.now()).where('tries', '<', mostTries);
  if (!(await open().increment('tries', 1))) throw await refuse();
  const row = await db('own_code').where(keyOf(entering)).first<{ hash: string } | undefined>('hash');
  const fits = row !== undefined && timingSafeEqual(Buffer.from(row.hash), Buffer.from(hashOf(entering, code)));
  // of two who come with the same code, one gets in
  if (
    !fits ||
    !(await db('own_code')
      .where({ ...keyOf(entering), hash: row.hash })
      .delete())
  )
    throw await refuse();
  await db('sign_in_failure')
    .where({ name: tried, address: placeOf(req) })
    .delete();
  await beginOwn(deps, req, entering, 'by a code');
}

/** Somebody is signed in for themselves only: the session is of no person, and opens nothing else. */
export async function beginOwn(deps: Deps, req: Request, { workloadId, askingId, name }: Entering, how: string): Promise<void> {
  await renew(req);
  Object.assign(req.session, {
    asker: { workloadId, askingId },
    csrf: randomBytes(24).toString('base64url'),
    seenAt: Date.now(),
    idleMs,
    address: placeOf(req),
    agent: (req.headers['user-agent'] ?? '').slice(0, 200),
  });
  await auditSignIn(deps, name, 'own.start', how);
}
