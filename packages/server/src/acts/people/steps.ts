import { randomBytes } from 'node:crypto';
import type { Me, Role, SignedIn, SignInStep } from '@lithodex/contract';
import type { Request, Response } from 'express';
import { appendAudit } from '../../base/audit/trail';
import { fromJsonOrNull } from '../../base/db/json';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../deps';
import { ApiError } from '../../base/errors';
import { actorOfPerson, type Actor, type PersonRow } from '../../base/http/access';
import { rulesOf } from '../../records/people/rules';
import { noteSuccess } from '../../records/people/tries';

/** An account with what signing in asks of it. */
export interface Account extends PersonRow {
  readonly password_hash: string;
  readonly disabled: 0 | 1;
  /** Sealed; null without codes. */
  readonly code_secret: string | null;
  readonly code_counter: number;
  readonly recovery: unknown;
  readonly must_change: 0 | 1;
  /** Who they are to the organisation; null for who has a password here. */
  readonly subject: string | null;
}

declare module 'express-session' {
  interface SessionData {
    personId: number;
    /** Who signed in for themselves only, and by which link; null for none. */
    asker: { workloadId: number; askingId: number | null };
    csrf: string;
    /** Who has shown a password but is not signed in yet, since when, and whether a second factor was shown too. */
    half: { id: number; at: number; second: boolean };
    /** Of a passkey that is being made or asked for. */
    challenge: string;
    /** A sealed secret for codes that is not in force yet. */
    offer: string;
    /** When they last showed who they are, was seen last, and after what pause the session ends, ms. */
    confirmedAt: number;
    seenAt: number;
    idleMs: number;
    /** Where they signed in from, and with what. */
    address: string;
    agent: string;
    /** It is in the database: it came from there. */
    stored: boolean;
  }
}

/** Signing in may take so long. */
const halfMs = 10 * 60_000;

export const placeOf = (req: Request): string => (req.ip ?? '').slice(0, 60);

/** What somebody can show besides the password. */
export async function waysOf(deps: Deps, account: Account): Promise<SignInStep['ways']> {
  const passkey = await deps.db('passkey').where({ person_id: account.id }).first<{ id: number } | undefined>('id');
  const left = fromJsonOrNull<string[]>(account.recovery) ?? [];
  const ways: SignInStep['ways'] = [...(account.code_secret ? ['code' as const] : []), ...(passkey ? ['passkey' as const] : [])];
  return ways.length && left.length ? [...ways, 'recovery'] : ways;
}

/** Who has shown a password lately and is not signed in yet. Throws NOT_SIGNED_IN. */
export async function halfSignedIn(deps: Deps, req: Request): Promise<Account> {
  const { half } = req.session;
  if (!half || Date.now() - half.at > halfMs) throw new ApiError('NOT_SIGNED_IN');
  const account = await deps.db('person').where({ id: half.id, disabled: false }).first<Account | undefined>();
  if (!account) throw new ApiError('NOT_SIGNED_IN');
  return account;
}

export async function auditSignIn(deps: Deps, actor: string, action: string, detail = ''): Promise<void> {
  await inTransaction(deps.db, (trx) => appendAudit(trx, deps.clock.now(), { actor, action, object: 'sign-in', detail }));
}

/** Begins a session anew, so that one that was there before is worth nothing. */
export async function renew(req: Request): Promise<void> {
  await new Promise<void>((resolve, reject) => {
    req.session.regenerate((error: unknown) => {
      if (error) reject(new Error('the session could not be renewed', { cause: error }));
      else resolve();
    });
  });
}

/** Ends the session of a request, and takes its cookie back. */
export async function endSession(req: Request, res: Response): Promise<void> {
  await new Promise<void>((resolve) => {
    req.session.destroy(() => {
      resolve();
    });
  });
  res.clearCookie('lithodex');
}

/** Begins to sign somebody in who has shown a password, or whom the organisation knows. */
export async function begin(deps: Deps, req: Request, account: Account): Promise<SignedIn> {
  await renew(req);
  req.session.half = { id: account.id, at: Date.now(), second: false };
  return goOn(deps, req, account);
}

/** The next step of signing in; who has taken the last one is signed in. */
export async function goOn(deps: Deps, req: Request, account: Account): Promise<SignedIn> {
  const rules = await rulesOf(deps.db);
  const ways = await waysOf(deps, account);
  const shown = req.session.half?.second === true;
  if (ways.length && !shown) return { step: 'second', ways };
  if (!ways.length && account.subject === null && rules.secondFor.includes(account.role))
    return { step: 'enrol', ways: ['code', 'passkey'] };
  if (account.must_change) return { step: 'password', ways: [] };
  await renew(req);
  const now = Date.now();
  Object.assign(req.session, {
    personId: account.id,
    csrf: randomBytes(24).toString('base64url'),
    confirmedAt: now,
    seenAt: now,
    idleMs: rules.idleMinutes * 60_000,
    address: placeOf(req),
    agent: (req.headers['user-agent'] ?? '').slice(0, 200),
  });
  await noteSuccess(deps.db, account, placeOf(req));
  await auditSignIn(
    deps,
    account.name,
    'session.start',
    [account.subject ? 'by the organisation' : '', shown ? 'with a second factor' : ''].filter(Boolean).join(', '),
  );
  return meOf(deps, actorOfPerson(account), req);
}

export function meOf(deps: Deps, actor: Actor, req: Request): Me {
  return {
    id: actor.personId,
    name: actor.name,
    display: actor.display,
    role: actor.role as Role,
    remit: actor.remit ? [...actor.remit] : null,
    csrf: actor.by === 'session' ? (req.session.csrf ?? '') : '',
    idleMinutes: actor.by === 'session' ? Math.round((req.session.idleMs ?? 0) / 60_000) || null : null,
    zone: deps.config.zone,
    now: deps.clock.now(),
  };
}
