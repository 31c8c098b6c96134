import { appendAudit } from '../audit/trail';
import { fromJson } from '../db/json';
import { inTransaction } from '../db/open';
import type { Deps } from '../deps';
import { ApiError, found } from '../errors';
import type { Actor } from '../http/access';
import type { Handlers } from '../http/bind-routes';
import { putInForce } from '../policies/put-in-force';
import { releaseHold } from '../recover/release-hold';
import { forget } from '../targets/retire';
import { requestDays, whyNot, type Act, type RequestRow } from './second-person';

type RequestHandlers = Pick<Handlers, 'listRequests' | 'agreeRequest' | 'refuseRequest'>;

const dayMs = 86_400_000;
const shownDays = 30;

async function carryOut(deps: Deps, act: Act, by: string): Promise<void> {
  switch (act.kind) {
    case 'policy.change':
      return putInForce(deps, act.id, act.body, by);
    case 'target.forget':
      return forget(deps, act.id, by);
    case 'point.release':
      return releaseHold(deps, act.id, by);
  }
}

export function requestHandlers(deps: Deps): RequestHandlers {
  const { db, clock } = deps;

  /** Takes a waiting request for deciding: of two who decide at once, one wins. */
  async function decide(id: number, actor: Actor, state: 'done' | 'refused'): Promise<RequestRow> {
    return inTransaction(db, async (trx) => {
      const now = clock.now();
      const row = found(await trx('request').where({ id }).forUpdate().first<RequestRow | undefined>());
      if (row.state !== 'waiting' || row.asked_at < now - requestDays * dayMs)
        throw new ApiError('NOT_NOW', undefined, 'This request is not waiting any more.');
      const why = await whyNot(trx, now, actor, row);
      if (why && (state === 'done' || actor.by !== 'session'))
        throw new ApiError('SECOND_PERSON', undefined, `${why} Nothing was changed.`);
      await trx('request').where({ id }).update({ state, decided_by: actor.id, decided_at: now });
      await appendAudit(trx, now, {
        actor: actor.name,
        action: state === 'done' ? 'request.agree' : 'request.refuse',
        object: row.subject,
        detail: `request ${id}`,
      });
      return row;
    });
  }

  return {
    async listRequests({ actor }) {
      const now = clock.now();
      const rows = await db('request as r')
        .join('person as a', 'a.id', 'r.asked_by')
        .leftJoin('person as d', 'd.id', 'r.decided_by')
        .where('r.asked_at', '>', now - shownDays * dayMs)
        .orderBy('r.id', 'desc')
        .limit(100)
        .select<(RequestRow & { asker: string; decider: string | null })[]>('r.*', 'a.display as asker', 'd.display as decider');
      const shown = rows.map(async (r) => ({
        id: r.id,
        subject: r.subject,
        effect: r.effect,
        askedBy: r.asker,
        askedAt: r.asked_at,
        state: r.state === 'waiting' && r.asked_at < now - requestDays * dayMs ? ('lapsed' as const) : r.state,
        decidedBy: r.decider,
        decidedAt: r.decided_at,
        outcome: r.outcome,
        notByMe: await whyNot(db, now, actor, r),
      }));
      return { rows: await Promise.all(shown) };
    },

    async agreeRequest({ params, actor }) {
      const request = await decide(params.id, actor, 'done');
      const asker = await db('person').where({ id: request.asked_by }).first<{ name: string }>('name');
      try {
        await carryOut(deps, fromJson<Act>(request.act), `${asker.name}, agreed by ${actor.name}`);
      } catch (error) {
        const outcome = error instanceof Error ? error.message : String(error);
        await db('request')
          .where({ id: params.id })
          .update({ state: 'failed', outcome: outcome.slice(0, 500) });
        throw error;
      } finally {
        await deps.events.emit('request');
      }
      return {};
    },

    async refuseRequest({ params, actor }) {
      await decide(params.id, actor, 'refused');
      await deps.events.emit('request');
      return {};
    },
  };
}
