import { pairingNumber, type AskingMover } from '@lithodex/contract';
import type { Knex } from 'knex';
import { appendAudit } from '../../base/audit/trail';
import { inTransaction } from '../../base/db/open';
import { ApiError, found } from '../../base/errors';
import type { Handlers } from '../../base/http/bind-routes';
import { refuseKnownMover } from '../../acts/movers/known-names';
import { placeOf } from '../../acts/people/steps';
import type { Deps } from '../../acts/deps';

type AskingHandlers = Pick<Handlers, 'askToJoin' | 'askingMovers' | 'admitMover' | 'refuseMover'>;

interface AskingRow {
  readonly sum: string;
  readonly name: string;
  readonly address: string;
  readonly asked_at: number;
  readonly refused: 0 | 1;
}

const idOf = (sum: string) => sum.slice(0, 32);
/** Who does not ask again within so long has gone; what was refused is remembered for longer, ms. */
const [silentMs, refusedMs] = [600_000, 86_400_000];
/** So many may wait at once: nobody looks at more, and none of them is known. */
const mostWaiting = 50;

/** Movers that come by themselves and wait to be let in: nobody copies a code. */
export function askingHandlers(deps: Deps): AskingHandlers {
  const { db } = deps;
  // hosts live in real time, whatever the clock of the installation says
  const now = () => Date.now();
  const sweep = async () => {
    await db('mover_asking')
      .where((q) => void q.where({ refused: false }).where('seen_at', '<', now() - silentMs))
      .orWhere((q) => void q.where({ refused: true }).where('seen_at', '<', now() - refusedMs))
      .delete();
  };
  const waiting = (id: string, trx: Knex | Knex.Transaction = db) =>
    trx('mover_asking').where('sum', 'like', `${id}%`).where({ refused: false });

  return {
    async askToJoin({ body: { mover, sum }, req }) {
      const admitted = await db('api_token').where({ hash: sum, role: 'mover', mover }).first<{ id: number } | undefined>('id');
      if (admitted) return { state: 'admitted' };
      await sweep();
      const row = await db('mover_asking').where({ sum }).first<AskingRow | undefined>();
      if (row?.refused) return { state: 'refused' };
      if (row) {
        await db('mover_asking').where({ sum }).update({ seen_at: now() });
        return { state: 'waiting' };
      }
      await refuseKnownMover(deps, mover);
      const all = await db('mover_asking').count({ n: '*' }).first<{ n: number }>();
      if (Number(all.n) >= mostWaiting)
        throw new ApiError('TOO_MANY_TRIES', undefined, 'Too many movers wait to be let in. Try again later.');
      await db('mover_asking').insert({ sum, name: mover, address: placeOf(req), asked_at: now(), seen_at: now(), refused: false });
      await deps.events.emit('matter');
      return { state: 'waiting' };
    },

    async askingMovers() {
      await sweep();
      const rows = await db('mover_asking').where({ refused: false }).orderBy('asked_at').select<AskingRow[]>();
      return {
        rows: rows.map((r): AskingMover => ({
          id: idOf(r.sum),
          name: r.name,
          number: pairingNumber(r.sum),
          address: r.address,
          askedAt: r.asked_at,
        })),
      };
    },

    async admitMover({ params: { id }, body, actor }) {
      const { name } = found(await waiting(id).first<AskingRow | undefined>());
      await refuseKnownMover(deps, name);
      await inTransaction(db, async (trx) => {
        const row = found(await waiting(id, trx).forUpdate().first<AskingRow | undefined>());
        await trx('api_token').where({ mover: row.name }).delete();
        await trx('api_token').insert({
          name: `mover ${row.name}`,
          role: 'mover',
          hash: row.sum,
          created_at: deps.clock.now(),
          duties: JSON.stringify(body.duties),
          systems: body.systems && JSON.stringify(body.systems),
          mover: row.name,
        });
        await trx('mover_asking').where({ sum: row.sum }).delete();
        const detail = `${body.duties.join(' ')}; asked from ${row.address}`;
        await appendAudit(trx, deps.clock.now(), { actor: actor.name, action: 'mover.admit', object: `mover ${row.name}`, detail });
      });
      await deps.events.emit('matter');
      return {};
    },

    async refuseMover({ params: { id }, actor }) {
      await inTransaction(db, async (trx) => {
        const row = found(await waiting(id, trx).forUpdate().first<AskingRow | undefined>());
        await trx('mover_asking').where({ sum: row.sum }).update({ refused: true, seen_at: now() });
        await appendAudit(trx, deps.clock.now(), {
          actor: actor.name,
          action: 'mover.refuse',
          object: `mover ${row.name}`,
          detail: `asked from ${row.address}`,
        });
      });
      await deps.events.emit('matter');
      return {};
    },
  };
}
