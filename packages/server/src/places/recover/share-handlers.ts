import type { ShareBody } from '@lithodex/contract';
import type { ShareOpener } from '@lithodex/kinds';
import { appendAudit } from '../../base/audit/trail';
import { inTransaction } from '../../base/db/open';
import { ApiError, found } from '../../base/errors';
import type { Handlers } from '../../base/http/bind-routes';
import { columnsOf, sealedShare, shareRef, toShare, type ShareRow } from '../../records/systems/share-rows';
import type { Deps } from '../../acts/deps';

const testMs = 60_000;
const detailOf = ({ name, address }: ShareBody) => JSON.stringify({ name, address });

/** Shares that files can be brought to. */
export function shareHandlers(deps: Deps): Pick<Handlers, 'listShares' | 'addShare' | 'changeShare' | 'removeShare'> {
  const { db, clock } = deps;
  const rowOf = async (id: number) => found(await db('share').where({ id }).first<ShareRow | undefined>());

  /** What opens a share: as given, or as kept for the address it was given for. */
  const openerOf = async (id: number | null, { opener, address }: ShareBody): Promise<ShareOpener> => {
    if (opener) return opener;
    const kept = id === null ? undefined : shareRef(deps.secrets, await rowOf(id));
    if (!kept || JSON.stringify(kept.address) !== JSON.stringify(address))
      throw new ApiError('INVALID', [{ at: 'body.opener' }], 'Say how to sign in at this address. Nothing was changed.');
    return kept.opener;
  };

  /** Throws NAME_TAKEN, CONNECTION_FAULTY. */
  const mustWork = async (body: ShareBody, opener: ShareOpener, own: number | null): Promise<void> => {
    const taken = await db('share').where({ name: body.name }).first<{ id: number } | undefined>('id');
    if (taken && taken.id !== own) throw new ApiError('NAME_TAKEN');
    const answer = await deps.movers.ask({ ask: 'shareTest', share: { address: body.address, opener } }, testMs);
    if (!answer.ok) throw new ApiError('CONNECTION_FAULTY', undefined, `${answer.message} It was not saved.`);
  };

  return {
    listShares: async () => ({ rows: (await db('share').orderBy('name').select<ShareRow[]>()).map(toShare) }),

    async addShare({ body, actor }) {
      const opener = await openerOf(null, body);
      await mustWork(body, opener, null);
      return inTransaction(db, async (trx) => {
        const [id] = await trx('share').insert(columnsOf(body, opener));
        await trx('share')
          .where({ id })
          .update({ secret: sealedShare(deps.secrets, id!, opener) });
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'share.add', object: body.name, detail: detailOf(body) });
        return { id: id! };
      });
    },

    async changeShare({ params, body, actor }) {
      const row = await rowOf(params.id);
      const opener = await openerOf(row.id, body);
      await mustWork(body, opener, row.id);
      await inTransaction(db, async (trx) => {
        await trx('share')
          .where({ id: row.id })
          .update({ ...columnsOf(body, opener), secret: sealedShare(deps.secrets, row.id, opener) });
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'share.change', object: body.name, detail: detailOf(body) });
      });
      return {};
    },

    async removeShare({ params, actor }) {
      const row = await rowOf(params.id);
      await inTransaction(db, async (trx) => {
        await trx('share').where({ id: row.id }).delete();
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'share.remove', object: row.name });
      });
      return {};
    },
  };
}
