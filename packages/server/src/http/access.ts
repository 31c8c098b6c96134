import { createHash } from 'node:crypto';
import type { Request } from 'express';
import type { Knex } from 'knex';
import type { Access, Role } from '@lithodex/contract';
import { fromJsonOrNull } from '../db/json';
import { ApiError } from '../errors';
import { duties, type Duty } from '../movers/duties';

/** Who makes a request. */
export interface Actor {
  readonly id: number;
  readonly name: string;
  readonly display: string;
  readonly role: Role | 'mover';
  /** Workloads this person may act for; null: all. */
  readonly remit: readonly number[] | null;
  readonly by: 'session' | 'token';
  /** Of a mover; nobody else has any. */
  readonly duties: readonly Duty[];
  /** The only mover that may use this token; null: any, and for people. */
  readonly mover: string | null;
}

declare module 'express-session' {
  interface SessionData {
    personId: number;
    csrf: string;
  }
}

export function tokenHash(token: string): string {
  return createHash('sha256').update(token).digest('hex');
}

interface PersonRow {
  id: number;
  name: string;
  display: string;
  role: Role;
  remit: number[] | string | null;
}

interface TokenRow {
  readonly id: number;
  readonly name: string;
  readonly role: Role | 'mover';
  readonly duties: unknown;
  readonly mover: string | null;
  readonly last_used_at: number | null;
}

export function remitOf(row: { remit: number[] | string | null }): number[] | null {
  return typeof row.remit === 'string' ? (JSON.parse(row.remit) as number[]) : row.remit;
}

function dutiesOf(row: { role: Role | 'mover'; duties: unknown }): readonly Duty[] {
  return row.role === 'mover' ? (fromJsonOrNull<Duty[]>(row.duties) ?? duties) : [];
}

/** The token of a request. Calendar programs know passwords only, so one may stand there, for reading: a browser would send it along by itself. */
function tokenIn({ headers, method }: Request): string | undefined {
  const { authorization = '' } = headers;
  const basic = method === 'GET' ? /^Basic (\S+)$/.exec(authorization)?.[1] : undefined;
  return basic ? /:(.*)$/s.exec(Buffer.from(basic, 'base64').toString())?.[1] : /^Bearer (\S+)$/.exec(authorization)?.[1];
}

/** Who makes the request, by bearer token or session; undefined when nobody is signed in. */
export async function actorOf(db: Knex, req: Request): Promise<Actor | undefined> {
  const bearer = tokenIn(req);
  if (bearer) {
    const row = await db('api_token')
      .where({ hash: tokenHash(bearer) })
      .first<TokenRow | undefined>();
    if (!row) throw new ApiError('NOT_SIGNED_IN');
    if (Date.now() - (row.last_used_at ?? 0) > 60_000) await db('api_token').where({ id: row.id }).update({ last_used_at: Date.now() });
    const { id, role, mover } = row;
    return { id, name: `token ${row.name}`, display: row.name, role, remit: null, by: 'token', duties: dutiesOf(row), mover };
  }
  const id = req.session.personId;
  if (!id) return undefined;
  const row = await db('person').where({ id, disabled: false }).first<PersonRow | undefined>();
  return (
    row && {
      id: row.id,
      name: row.name,
      display: row.display,
      role: row.role,
      remit: row.role === 'clerk' ? (remitOf(row) ?? []) : null,
      by: 'session',
      duties: [],
      mover: null,
    }
  );
}

/** The one place where it is decided whether a request may go on. */
export function checkAccess(access: Access, actor: Actor | undefined, req: Request): void {
  if (access === 'anyone') return;
  if (!actor) throw new ApiError('NOT_SIGNED_IN');
  const fits = access === 'mover' ? actor.role === 'mover' : actor.role !== 'mover' && access.includes(actor.role);
  if (!fits) throw new ApiError('NOT_ALLOWED');
  const safe = req.method === 'GET' || req.method === 'HEAD';
  if (actor.by === 'session' && !safe && req.headers['x-lithodex-csrf'] !== req.session.csrf) throw new ApiError('CSRF_MISSING');
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
