import type { MoverToken, Token } from '@lithodex/contract';
import type { Knex } from 'knex';
import { appendAudit } from '../../base/audit/trail';
import { fromJsonOrNull } from '../../base/db/json';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../../acts/deps';
import { ApiError, found } from '../../base/errors';
import { dutiesOf, remitOf, systemsOf, tokenHash, type Actor, type TokenRow } from '../../base/http/access';
import type { Handlers } from '../../base/http/bind-routes';
import { keyOfToken } from '../../base/http/open-calls';
import { issueToken, newSecret } from '../../acts/people/issue-token';

type TokenHandlers = Pick<
  Handlers,
  'listTokens' | 'addToken' | 'rotateToken' | 'removeToken' | 'listMoverTokens' | 'changeMoverToken' | 'removeMoverToken'
>;

const dayMs = 86_400_000;

/** The tokens of programs, which belong to somebody, and those of movers. */
export function tokenHandlers(deps: Deps): TokenHandlers {
  const { db, clock } = deps;

  /** What a mover reads for others right now ends: nothing that it sends is kept. */
  async function stopReadingBy(trx: Knex.Transaction, mover: string): Promise<void> {
    const own = trx('workload as w').join('source as s', 's.id', 'w.source_id').where({ 's.read_by': mover }).select('w.id');
    await trx('task')
      .whereIn('type', ['backup', 'trial'])
      .where({ state: 'running' })
      .whereNot({ mover })
      .whereIn('workload_id', own)
      .update({ stop_requested: true });
  }

  async function withdraw(id: number, mover: boolean, actor: Actor): Promise<void> {
    await inTransaction(db, async (trx) => {
      const row = found(
        await trx('api_token')
          .where({ id })
          .where('role', mover ? '=' : '<>', 'mover')
          .forUpdate()
          .first<{ name: string; mover: string | null } | undefined>('name', 'mover'),
      );
      await trx('api_token').where({ id }).delete();
      if (row.mover !== null) await stopReadingBy(trx, row.mover);
      await appendAudit(trx, clock.now(), { actor: actor.name, action: 'token.remove', object: `token ${row.name}` });
    });
    deps.movers.forget(id);
    deps.calls.end(keyOfToken(id));
  }

  return {
    async listTokens() {
      const rows = await db('api_token as t')
        .leftJoin('person as p', 'p.id', 't.owner_id')
        .whereNot({ 't.role': 'mover' })
        .orderBy('t.id')
        .select<(TokenRow & { created_at: number; owner: string | null })[]>('t.*', 'p.display as owner');
      return {
        rows: rows.map((r) => ({
          id: r.id,
          name: r.name,
          role: r.role as Token['role'],
          remit: remitOf(r),
          owner: r.owner,
          createdAt: r.created_at,
          lastUsedAt: r.last_used_at,
          expiresAt: r.expires_at,
        })),
      };
    },

    async addToken({ body: { name, role, remit, days }, actor }) {
      const expiresAt = Date.now() + days * dayMs;
      return {
        token: await issueToken(deps, name, role, actor.name, {
          ownerId: actor.personId,
          remit: role === 'clerk' ? (remit ?? []) : null,
          expiresAt,
        }),
      };
    },

    async rotateToken({ params: { id }, body: { days }, actor }) {
      const token = newSecret('lxt');
      await inTransaction(db, async (trx) => {
        const row = found(
          await trx('api_token')
            .where({ id })
            .whereNot({ role: 'mover' })
            .forUpdate()
            .first<{ name: string; owner_id: number | null } | undefined>(),
        );
        const change = { hash: tokenHash(token), expires_at: Date.now() + days * dayMs, owner_id: row.owner_id ?? actor.personId };
        await trx('api_token').where({ id }).update(change);
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'token.rotate', object: `token ${row.name}` });
      });
      deps.calls.end(keyOfToken(id));
      return { token };
    },

    async removeToken({ params, actor }) {
      await withdraw(params.id, false, actor);
      return {};
    },

    async listMoverTokens() {
      const names = new Map((await db('source').select<{ id: number; name: string }[]>('id', 'name')).map((s) => [s.id, s.name]));
      const rows = await db('api_token').where({ role: 'mover' }).orderBy('id').select<(TokenRow & { created_at: number })[]>();
      return {
        rows: rows.map((r): MoverToken => ({
          id: r.id,
          name: r.name,
          mover: r.mover,
          duties: [...dutiesOf(r)],
          systems: systemsOf(r)?.map((id) => ({ id, name: names.get(id) ?? 'one that is gone' })) ?? null,
          createdAt: r.created_at,
          lastUsedAt: r.last_used_at,
        })),
      };
    },

    async changeMoverToken({ params: { id }, body: { systems }, actor }) {
      await inTransaction(db, async (trx) => {
        const row = found(await trx('api_token').where({ id, role: 'mover' }).forUpdate().first<TokenRow | undefined>());
        if (systems === null && fromJsonOrNull(row.systems) === null && !dutiesOf(row).includes('keep'))
          throw new ApiError(
            'INVALID',
            [{ at: 'body.systems' }],
            'Name the systems: a mover that only captures is given no credentials but for those. Nothing was changed.',
          );
        await trx('api_token')
          .where({ id })
          .update({ systems: systems && JSON.stringify(systems) });
        await appendAudit(trx, clock.now(), {
          actor: actor.name,
          action: 'token.systems',
          object: `token ${row.name}`,
          detail: JSON.stringify(systems),
        });
      });
      return {};
    },

    async removeMoverToken({ params, actor }) {
      await withdraw(params.id, true, actor);
      return {};
    },
  };
}
