import { createHash } from 'node:crypto';
import type { Request } from 'express';
import type { Knex } from 'knex';
import type { Access, Role } from '@lithodex/contract';
import { fromJsonOrNull } from '../db/json';
import { ApiError } from '../errors';
import { duties, type Duty } from './duties';
import { keyOfPerson, keyOfToken } from './open-calls';

/** Who makes a request. */
export interface Actor {
  /** Of the session or the token: whose open calls these are. */
  readonly key: string;
  readonly name: string;
  readonly display: string;
  /** An asker is of the estate and signed in for themselves only. */
  readonly role: Role | 'mover' | 'asker';
  /** Workloads this person may act for; null: all. */
  readonly remit: readonly number[] | null;
  readonly by: 'session' | 'token';
  /** Who is signed in, or whose token it is; null for a token that belongs to nobody. */
  readonly personId: number | null;
  readonly tokenId: number | null;
  /** Of a mover; nobody else has any. */
  readonly duties: readonly Duty[];
  /** The only mover that may use this token; null: any, and for people. */
  readonly mover: string | null;
  /** Sources whose credentials the mover is given; null: all. */
  readonly systems: readonly number[] | null;
}

export function tokenHash(token: string): string {
  return createHash('sha256').update(token).digest('hex');
}

export interface PersonRow {
  id: number;
  name: string;
  display: string;
  role: Role;
  remit: number[] | string | null;
}

export interface TokenRow {
  readonly id: number;
  readonly name: string;
  readonly role: Role | 'mover';
  readonly duties: unknown;
  readonly mover: string | null;
  readonly last_used_at: number | null;
  readonly owner_id: number | null;
  readonly remit: number[] | string | null;
  readonly expires_at: number | null;
  readonly systems: unknown;
}

export function remitOf(row: { remit: number[] | string | null }): number[] | null {
  return typeof row.remit === 'string' ? (JSON.parse(row.remit) as number[]) : row.remit;
}

export function dutiesOf(row: { role: Role | 'mover'; duties: unknown }): readonly Duty[] {
  return row.role === 'mover' ? (fromJsonOrNull<Duty[]>(row.duties) ?? duties) : [];
}

/** The token of a request. Calendar programs know passwords only, so one may stand there, for reading: a browser would send it along by itself. */
function tokenIn({ headers, method }: Request): string | undefined {
  const { authorization = '' } = headers;
  const basic = method === 'GET' ? /^Basic (\S+)$/.exec(authorization)?.[1] : undefined;
  return basic ? /:(.*)$/s.exec(Buffer.from(basic, 'base64').toString())?.[1] : /^Bearer (\S+)$/.exec(authorization)?.[1];
}

async function byToken(db: Knex, secret: string): Promise<Actor> {
  const row = await db('api_token')
    .where({ hash: tokenHash(secret) })
    .first<TokenRow | undefined>();
  if (!row) throw new ApiError('NOT_SIGNED_IN');
  if (row.expires_at !== null && row.expires_at <= Date.now()) throw new ApiError('TOKEN_ENDED');
  if (Date.now() - (row.last_used_at ?? 0) > 60_000) await db('api_token').where({ id: row.id }).update({ last_used_at: Date.now() });
  const { id, role, mover, owner_id } = row;
  return {
    key: keyOfToken(id),
    name: `token ${row.name}`,
    display: row.name,
    role,
    remit: role === 'clerk' ? (remitOf(row) ?? []) : null,
    by: 'token',
    personId: owner_id,
    tokenId: id,
    duties: dutiesOf(row),
    mover,
    systems: systemsOf(row),
  };
}

/** Whose credentials a mover may be given. One that only captures is given none unless that was said. */
export function systemsOf(row: TokenRow): readonly number[] | null {
  const said = fromJsonOrNull<number[]>(row.systems);
  return said ?? (row.role === 'mover' && !dutiesOf(row).includes('keep') ? [] : null);
}

export function actorOfPerson(row: PersonRow): Actor {
  return {
    key: keyOfPerson(row.id),
    name: row.name,
    display: row.display,
    role: row.role,
    remit: row.role === 'clerk' ? (remitOf(row) ?? []) : null,
    by: 'session',
    personId: row.id,
    tokenId: null,
    duties: [],
    mover: null,
    systems: null,
  };
}

const seenEveryMs = 30_000;

/** Whether a session was used within the pause after which it ends; notes that it is used. */
function stillSeen({ session }: Request): boolean {
  const now = Date.now();
  // sessions of before there was such an end have none
  if (session.idleMs !== undefined && now - (session.seenAt ?? now) > session.idleMs) return false;
  if (now - (session.seenAt ?? 0) > seenEveryMs) session.seenAt = now;
  return true;
}

/** Who signed in for themselves only. */
async function askerOf(db: Knex, req: Request): Promise<Actor | undefined> {
  const { asker } = req.session;
  if (!asker || !stillSeen(req)) return undefined;
  const { workloadId } = asker;
  const row = await db('workload').where({ id: workloadId, kind: 'tenant' }).first<{ name: string } | undefined>('name');
  if (!row) return undefined;
  return {
    key: `asker ${workloadId}`,
    name: `${row.name.slice(0, 100)} (themselves)`,
    display: row.name,
    role: 'asker',
    remit: [workloadId],
    by: 'session',
    personId: null,
    tokenId: null,
    duties: [],
    mover: null,
    systems: null,
  };
}

/** Who makes the request, by bearer token or session; undefined when nobody is signed in. */
export async function actorOf(db: Knex, req: Request): Promise<Actor | undefined> {
  const bearer = tokenIn(req);
  if (bearer) return byToken(db, bearer);
  const id = req.session.personId;
  if (!id) return askerOf(db, req);
  if (!stillSeen(req)) return undefined;
  const row = await db('person').where({ id, disabled: false }).first<PersonRow | undefined>();
  return row && actorOfPerson(row);
}

/** The one place where it is decided whether a request may go on. */
export function checkAccess(access: Access, actor: Actor | undefined, req: Request): void {
  if (access === 'anyone') return;
  if (!actor) throw new ApiError('NOT_SIGNED_IN');
  const { role } = actor;
  const fits = typeof access === 'string' ? role === access : role !== 'mover' && role !== 'asker' && access.includes(role);
  if (!fits) throw new ApiError('NOT_ALLOWED');
  const safe = req.method === 'GET' || req.method === 'HEAD';
  if (actor.by === 'session' && !safe && req.headers['x-lithodex-csrf'] !== req.session.csrf) throw new ApiError('CSRF_MISSING');
}

/** Throws NOT_SIGNED_IN where a token was withdrawn while its call waited: it gets nothing any more. */
export async function stillGood(db: Knex, { tokenId }: Actor): Promise<void> {
  const query = db('api_token').where({ id: tokenId });
  if (!(await (db.isTransaction ? query.forShare() : query).first('id'))) throw new ApiError('NOT_SIGNED_IN');
}

/** The name a mover goes by. Throws NOT_ALLOWED where its token belongs to another. */
export function moverNamed(name: string, actor: Actor): string {
  if (actor.mover !== null && actor.mover !== name)
    throw new ApiError('NOT_ALLOWED', undefined, `This token belongs to the mover ${actor.mover}.`);
  return name;
}

/** Throws OUTSIDE_REMIT when the actor may not act for this workload. */
export function within(actor: Actor, workloadId: number): void {
  if (actor.remit && !actor.remit.includes(workloadId)) throw new ApiError('OUTSIDE_REMIT');
}
