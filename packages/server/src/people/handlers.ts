import { randomBytes } from 'node:crypto';
import type { Me, Role } from '@lithodex/contract';
import type { Request } from 'express';
import { appendAudit, checkAudit } from '../audit/trail';
import { inTransaction } from '../db/open';
import type { Deps } from '../deps';
import type { Duty } from '../movers/duties';
import { ApiError, found } from '../errors';
import { numberAt } from '../http/cursor';
import { remitOf, tokenHash, type Actor } from '../http/access';
import type { Handlers } from '../http/bind-routes';
import { hashPassword, passwordFits } from './passwords';

type PeopleHandlers = Pick<
  Handlers,
  | 'signIn'
  | 'me'
  | 'signOut'
  | 'listPeople'
  | 'addPerson'
  | 'removePerson'
  | 'listTokens'
  | 'addToken'
  | 'removeToken'
  | 'audit'
  | 'checkAudit'
>;

interface PersonRow {
  readonly id: number;
  readonly name: string;
  readonly display: string;
  readonly role: Role;
  readonly password_hash: string;
  readonly remit: number[] | string | null;
  readonly disabled: 0 | 1;
}

/** A hash to compare with when the name is unknown, so that a wrong name takes as long as a wrong password. */
const nobody = hashPassword(randomBytes(24).toString('hex'));

/** What a token of movers is bound to: some duties only, one mover only; without them all, any. */
export interface MoverBounds {
  readonly duties?: readonly Duty[];
  readonly mover?: string;
}

/** Makes a token; only its hash is kept. */
export async function issueToken(
  deps: Pick<Deps, 'db' | 'clock'>,
  name: string,
  role: Role | 'mover',
  actor: string,
  { duties: held, mover }: MoverBounds = {},
): Promise<string> {
  const token = `lxt_${randomBytes(32).toString('base64url')}`;
  await inTransaction(deps.db, async (trx) => {
    await trx('api_token').insert({
      name,
      role,
      hash: tokenHash(token),
      created_at: deps.clock.now(),
      duties: held ? JSON.stringify(held) : null,
      mover: mover ?? null,
    });
    await appendAudit(trx, deps.clock.now(), {
      actor,
      action: 'token.add',
      object: `token ${name}`,
      detail: [role, ...(held ?? [])].join(' '),
    });
  });
  return token;
}

export function peopleHandlers(deps: Deps): PeopleHandlers {
  const { db, clock } = deps;
  const meOf = (actor: Actor, req: Request): Me => ({
    id: actor.id,
    name: actor.name,
    display: actor.display,
    role: actor.role as Role,
    remit: actor.remit ? [...actor.remit] : null,
    csrf: actor.by === 'session' ? (req.session.csrf ?? '') : '',
    zone: deps.config.zone,
    now: clock.now(),
  });
  return {
    async signIn({ body, req }) {
      const row = await db('person').where({ name: body.name, disabled: false }).first<PersonRow | undefined>();
      const fits = await passwordFits(body.password, row?.password_hash ?? (await nobody));
      if (!row || !fits) {
        await inTransaction(db, (trx) => appendAudit(trx, clock.now(), { actor: body.name, action: 'session.refused', object: 'sign-in' }));
        throw new ApiError('SIGN_IN_REFUSED');
      }
      await new Promise<void>((resolve, reject) => {
        req.session.regenerate((error: unknown) => {
          if (error) reject(new Error('the session could not be renewed', { cause: error }));
          else resolve();
        });
      });
      req.session.personId = row.id;
      req.session.csrf = randomBytes(24).toString('base64url');
      await inTransaction(db, (trx) => appendAudit(trx, clock.now(), { actor: row.name, action: 'session.start', object: 'sign-in' }));
      return meOf(
        {
          id: row.id,
          name: row.name,
          display: row.display,
          role: row.role,
          remit: row.role === 'clerk' ? remitOf(row) : null,
          by: 'session',
          duties: [],
          mover: null,
        },
        req,
      );
    },

    async me({ actor, req }) {
      return meOf(actor, req);
    },

    async signOut({ req, res }) {
      await new Promise<void>((resolve) => {
        req.session.destroy(() => {
          resolve();
        });
      });
      res.clearCookie('lithodex');
      return {};
    },

    async listPeople() {
      const rows = await db('person').orderBy('name').select<PersonRow[]>();
      return {
        rows: rows.map((r) => ({
          id: r.id,
          name: r.name,
          display: r.display,
          role: r.role,
          remit: remitOf(r),
          disabled: r.disabled === 1,
        })),
      };
    },

    async addPerson({ body, actor }) {
      if (await db('person').where({ name: body.name }).first<PersonRow | undefined>()) throw new ApiError('NAME_TAKEN');
      const password = await hashPassword(body.password);
      const id = await inTransaction(db, async (trx) => {
        const [created] = (await trx('person').insert({
          name: body.name,
          display: body.display,
          role: body.role,
          password_hash: password,
          remit: body.remit ? JSON.stringify(body.remit) : null,
          created_at: clock.now(),
        })) as [number];
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'person.add', object: `person ${body.name}`, detail: body.role });
        return created;
      });
      return { id };
    },

    async removePerson({ params, actor }) {
      const row = found(await db('person').where({ id: params.id, disabled: false }).first<PersonRow | undefined>());
      if (row.id === actor.id && actor.by === 'session') throw new ApiError('NOT_NOW', undefined, 'You can not bar yourself.');
      await inTransaction(db, async (trx) => {
        const administrators = await trx('person')
          .where({ role: 'administrator', disabled: false })
          .forUpdate()
          .select<{ id: number }[]>('id');
        if (administrators.every((a) => a.id === row.id) && row.role === 'administrator')
          throw new ApiError('NOT_NOW', undefined, 'This is the last administrator: without one nobody could change anything any more.');
        await trx('person').where({ id: row.id }).update({ disabled: true });
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'person.bar', object: `person ${row.name}` });
      });
      return {};
    },

    async listTokens() {
      type T = { id: number; name: string; role: Role; created_at: number; last_used_at: number | null };
      const rows = await db('api_token').whereNot({ role: 'mover' }).orderBy('id').select<T[]>();
      return { rows: rows.map((r) => ({ id: r.id, name: r.name, role: r.role, createdAt: r.created_at, lastUsedAt: r.last_used_at })) };
    },

    async addToken({ body, actor }) {
      return { token: await issueToken(deps, body.name, body.role, actor.name) };
    },

    async removeToken({ params, actor }) {
      const row = found(await db('api_token').where({ id: params.id }).whereNot({ role: 'mover' }).first<{ name: string } | undefined>());
      await inTransaction(db, async (trx) => {
        await trx('api_token').where({ id: params.id }).delete();
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'token.remove', object: `token ${row.name}` });
      });
      return {};
    },

    async audit({ query }) {
      const before = numberAt(query.cursor, Number.MAX_SAFE_INTEGER);
      const q = db('audit')
        .where('seq', '<', before)
        .orderBy('seq', 'desc')
        .limit(query.limit + 1);
      if (query.q) {
        const like = `%${query.q.replace(/[\\%_]/g, '\\$&')}%`;
        void q.where((w) => {
          void w
            .where('actor', 'like', like)
            .orWhere('action', 'like', like)
            .orWhere('object', 'like', like)
            .orWhere('detail', 'like', like);
        });
      }
      type A = { seq: number; at: number; actor: string; action: string; object: string; detail: string };
      const rows = await q.select<A[]>('seq', 'at', 'actor', 'action', 'object', 'detail');
      const shown = rows.slice(0, query.limit);
      return { rows: shown, next: rows.length > query.limit ? String(shown.at(-1)!.seq) : null, total: null };
    },

    checkAudit: () => checkAudit(db),
  };
}
