import { OutgoingClient } from '@lithodex/net';
import type { Request, Response } from 'express';
import type { Knex } from 'knex';
import * as client from 'openid-client';
import { z } from 'zod';
import { appendAudit } from '../../base/audit/trail';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../deps';
import { ApiError } from '../../base/errors';
import { endAccess } from './change-person';
import { organisationOf, secretOf } from '../../records/people/organisation-settings';
import { beginOwn, enteringByAddress, enteringByLink } from './own-sign-in';
import { auditSignIn, begin, type Account } from './steps';

const cookie = 'lithodex-organisation';
const purpose = 'organisation sign-in';
const stateMs = 10 * 60_000;
const answerS = 10;
/** More than anything an organisation says of itself or of a person. */
const { fetch: ask } = new OutgoingClient(1 << 20, answerS * 1000);
const path = '/api/v1/session/organisation';
const State = z.object({
  state: z.string(),
  nonce: z.string(),
  verifier: z.string(),
  next: z.string(),
  /** Of who comes for themselves only: their link, or '' for none; null for people who work here. */
  own: z.string().nullable(),
  at: z.number(),
});

export type Organisation = NonNullable<Awaited<ReturnType<typeof organisationOf>>>;

/** What the organisation says of itself, asked there. Throws ORGANISATION_FAILED. */
export async function configured(deps: Deps, { issuer, clientId, secret }: Organisation): Promise<client.Configuration> {
  try {
    const url = new URL(issuer);
    // eslint-disable-next-line @typescript-eslint/no-deprecated -- marked so only to be noticed: the address an administrator gave decides
    const plain = url.protocol === 'http:' ? { execute: [client.allowInsecureRequests] } : {};
    const options = { timeout: answerS, [client.customFetch]: ask, ...plain };
    return await client.discovery(url, clientId, undefined, client.ClientSecretPost(secretOf(deps.secrets, secret)), options);
  } catch {
    throw new ApiError(
      'ORGANISATION_FAILED',
      undefined,
      'Nothing that lets people sign in by OpenID Connect answers at the address of the organisation.',
    );
  }
}

const backOf = (req: Request) => `${req.protocol}://${req.get('host') ?? 'localhost'}${path}/back`;

/** Sends a browser to where the organisation lets people in. What it has to bring back is sealed in a cookie of its own, as the one of the session does not come along from elsewhere. */
export async function goThere(deps: Deps, req: Request, res: Response): Promise<void> {
  const organisation = await organisationOf(deps.db);
  if (!organisation) throw new ApiError('NOT_FOUND');
  const config = await configured(deps, organisation);
  const verifier = client.randomPKCECodeVerifier();
  const next = typeof req.query['next'] === 'string' && /^\/(?!\/)/.test(req.query['next']) ? req.query['next'].slice(0, 500) : '/';
  const own = typeof req.query['own'] === 'string' ? req.query['own'].slice(0, 100) : null;
  const kept = { state: client.randomState(), nonce: client.randomNonce(), verifier, next, own, at: Date.now() };
  res.cookie(cookie, deps.secrets.seal(purpose, JSON.stringify(kept)).toString('base64url'), {
    httpOnly: true,
    sameSite: 'lax',
    secure: req.secure,
    path,
    maxAge: stateMs,
  });
  const url = client.buildAuthorizationUrl(config, {
    redirect_uri: backOf(req),
    scope: 'openid profile email groups',
    code_challenge: await client.calculatePKCECodeChallenge(verifier),
    code_challenge_method: 'S256',
    state: kept.state,
    nonce: kept.nonce,
  });
  res.redirect(url.href);
}

function stateOf(deps: Deps, req: Request): z.output<typeof State> {
  const sealed = new RegExp(`(?:^|; )${cookie}=([\\w-]+)`).exec(req.headers.cookie ?? '')?.[1];
  try {
    const state = State.parse(JSON.parse(deps.secrets.open(purpose, Buffer.from(sealed ?? '', 'base64url'))));
    if (Date.now() - state.at < stateMs) return state;
  } catch {
    // falls through: what is not ours counts as nothing
  }
  throw new ApiError('ORGANISATION_FAILED', undefined, 'This sign-in was not begun here, or took too long. Begin again.');
}

/** Whether a browser that comes back set out for somebody's own, not for what people who work here do. */
export function cameForOneself(deps: Deps, req: Request): boolean {
  try {
    return stateOf(deps, req).own !== null;
  } catch {
    return false;
  }
}

/** Takes a browser back: who it is says the organisation, what they may do say its groups. Returns where to go on to. */
export async function comeBack(deps: Deps, req: Request, res: Response): Promise<string> {
  const organisation = await organisationOf(deps.db);
  if (!organisation) throw new ApiError('NOT_FOUND');
  const { state, nonce, verifier, next, own } = stateOf(deps, req);
  res.clearCookie(cookie, { path });
  const config = await configured(deps, organisation);
  const url = new URL(`${backOf(req)}${new URL(req.originalUrl, 'http://x').search}`);
  const tokens = await client
    .authorizationCodeGrant(config, url, { expectedState: state, expectedNonce: nonce, pkceCodeVerifier: verifier, idTokenExpected: true })
    .catch(() => {
      throw new ApiError('ORGANISATION_FAILED');
    });
  const claims = Claims.safeParse(tokens.claims());
  if (!claims.success) throw new ApiError('ORGANISATION_FAILED');
  if (own !== null) return comeForOneself(deps, req, own, claims.data);
  const account = await accountOf(deps, organisation, claims.data);
  const step = await begin(deps, req, account);
  return 'step' in step ? `/sign-in?next=${encodeURIComponent(next)}&step=${step.step}` : next;
}

const Claims = z.looseObject({
  sub: z.string().min(1).max(255),
  name: z.string().max(120).optional(),
  preferred_username: z.string().max(200).optional(),
  email: z.string().max(320).optional(),
  email_verified: z.boolean().optional(),
});

/** Signs somebody in for themselves only, by the address that the organisation says is theirs. A link of somebody else lets nobody in. */
async function comeForOneself(deps: Deps, req: Request, link: string, claims: z.output<typeof Claims>): Promise<string> {
  const address = claims.email_verified === false ? '' : (claims.email ?? '').toLowerCase();
  const entering = link === '' ? await enteringByAddress(deps, address) : await enteringByLink(deps, link);
  if (address === '' || entering?.mail.toLowerCase() !== address) {
    await auditSignIn(deps, address || claims.sub.slice(0, 100), 'own.refused', 'by the organisation');
    throw new ApiError(
      'ORGANISATION_FAILED',
      undefined,
      'The organisation knows you, but this is not for you, or you have no mailbox here.',
    );
  }
  await beginOwn(deps, req, entering, 'by the organisation');
  return '/own';
}

async function accountOf(deps: Deps, organisation: Organisation, claims: z.output<typeof Claims>): Promise<Account> {
  const said = claims[organisation.groupsClaim];
  const groups = new Set(Array.isArray(said) ? said.filter((g) => typeof g === 'string') : []);
  const mapped = organisation.groups.find((g) => groups.has(g.group));
  const subject = `${organisation.issuer} ${claims.sub}`;
  const wish = claims.preferred_username ?? claims.email ?? claims.sub;
  if (!mapped) {
    await auditSignIn(deps, wish.slice(0, 100), 'session.refused', 'by the organisation: in no group that is let in');
    throw new ApiError(
      'ORGANISATION_FAILED',
      undefined,
      'The organisation knows you, but none of your groups is let in here. Ask an administrator.',
    );
  }
  const { role } = mapped;
  const remit = role === 'clerk' ? JSON.stringify(mapped.remit ?? []) : null;
  return inTransaction(deps.db, async (trx) => {
    const known = await trx('person').where({ subject }).forUpdate().first<Account | undefined>();
    if (known?.disabled) throw new ApiError('ORGANISATION_FAILED', undefined, 'You are barred here. Ask an administrator.');
    const display = (claims.name ?? wish).slice(0, 120);
    if (known) {
      if (known.role !== role) await endAccess(deps, trx, known.id);
      await trx('person').where({ id: known.id }).update({ role, remit, display });
      if (known.role !== role) await noted(deps, trx, known.name, 'person.change', role);
    } else {
      if (!organisation.newPeople)
        throw new ApiError('ORGANISATION_FAILED', undefined, 'You have no account here yet. Ask an administrator.');
      const name = await freeName(trx, wish);
      await trx('person').insert({ name, display, role, remit, password_hash: '', subject, created_at: deps.clock.now() });
      await noted(deps, trx, name, 'person.add', role);
    }
    return await trx('person').where({ subject }).first<Account>();
  });
}

const noted = (deps: Deps, trx: Knex.Transaction, name: string, action: string, detail: string) =>
  appendAudit(trx, deps.clock.now(), { actor: 'the organisation', action, object: `person ${name}`, detail });

/** A sign-in name like the one of the organisation that nobody has. */
async function freeName(trx: Knex.Transaction, wish: string): Promise<string> {
  const plain = wish
    .split('@')[0]!
    .toLowerCase()
    .normalize('NFKD')
    .replace(/[^a-z0-9.-]/g, '')
    .replace(/^[^a-z]+/, '')
    .slice(0, 34);
  const base = plain.length > 1 ? plain : `person.${plain}`;
  for (let n = 1; ; n++) {
    const name = n === 1 ? base : `${base}-${n}`;
    if (!(await trx('person').where({ name }).first('id'))) return name;
  }
}
