import { appendAudit } from '../../base/audit/trail';
import { inTransaction } from '../../base/db/open';
import { ApiError, found } from '../../base/errors';
import type { Handlers } from '../../base/http/bind-routes';
import type { Deps } from '../../acts/deps';
import { isBusy, queueAdopt } from '../../acts/targets/care';
import { ownOutlook } from '../../acts/targets/own-outlook';
import { refOf, type TargetRow } from '../../records/targets/target-rows';

type FollowHandlers = Pick<Handlers, 'setFollowing' | 'ownOutlook' | 'ownTarget'>;

const askMs = 30_000;

/** Stores that another installation owns: how often they are read, and taking one over. */
export function followHandlers(deps: Deps): FollowHandlers {
  const { db, clock } = deps;

  /** A store that another installation owns, as far as is known. Throws NOT_FOUND, NOT_NOW. */
  async function ofAnother(id: string): Promise<TargetRow> {
    const target = found(await db('target').where({ id }).first<TargetRow | undefined>());
    if (target.follows_every === null && target.owned_elsewhere === null)
      throw new ApiError('NOT_NOW', undefined, `${target.name} belongs to this installation already.`);
    return target;
  }

  return {
    async setFollowing({ params, body, actor }) {
      const { id } = await ofAnother(params.id);
      await inTransaction(db, async (trx) => {
        // its settings are those of its owner from now on
        await trx('target').where({ id }).update({ follows_every: body.every, follow_due: clock.now(), settings_held: true });
        const detail = JSON.stringify(body);
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'target.following', object: `target ${id}`, detail });
      });
      await deps.events.emit('estate');
      return {};
    },

    ownOutlook: async ({ params }) => ownOutlook(db, await ofAnother(params.id)),

    async ownTarget({ params, body, actor }) {
      const target = await ofAnother(params.id);
      await deps.movers.ask({ ask: 'targetOwn', target: refOf(deps.secrets, target) }, askMs);
      const runId = await inTransaction(db, async (trx) => {
        const { id } = target;
        const ours = { follows_every: null, follow_due: null, owned_elsewhere: null, measured_at: null };
        // what becomes of the settings kept there is asked, as with every store that is taken over
        await trx('target')
          .where({ id })
          .update({ ...ours, settings_held: true, settings_sum: null });
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'target.own', object: `target ${id}`, detail: body.reason });
        // a reading that is under way takes in what stands there
        return (await isBusy(trx, id)) ? null : queueAdopt(trx, clock.now(), id, actor.name);
      });
      deps.movers.workAppeared();
      if (runId !== null) await deps.events.emit('run', { runId });
      await deps.events.emit('estate');
      return { runId };
    },
  };
}
