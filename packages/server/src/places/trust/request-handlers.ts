import { appendAudit } from '../../base/audit/trail';
import type { Request } from '@lithodex/contract';
import type { Knex } from 'knex';
import { fromJson, fromJsonOrNull } from '../../base/db/json';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../../acts/deps';
import { ApiError, found } from '../../base/errors';
import type { Actor } from '../../base/http/access';
import type { Handlers } from '../../base/http/bind-routes';
import { putInForce } from '../../acts/policies/put-in-force';
import { lossBy, lossText, type Loss } from '../../acts/policies/promises';
import { policiesInForce, type PolicyRow } from '../../records/policies/matching';
import { releaseHold } from '../../acts/recover/release-hold';
import { forget } from '../../acts/targets/retire';
import { settle } from '../../acts/targets/settle';
import { changePerson } from '../../acts/people/change-person';
import { requestDays, rememberChange, whyNot, type Act, type RequestRow } from '../../acts/people/second-person';

type RequestHandlers = Pick<Handlers, 'listRequests' | 'agreeRequest' | 'refuseRequest'>;

const dayMs = 86_400_000;
const shownDays = 30;

async function carryOut(deps: Deps, act: Act, by: string, people: readonly number[]): Promise<void> {
  switch (act.kind) {
    case 'policy.change':
      return putInForce(deps, act.id, act.body, by, true);
    case 'target.forget':
      return forget(deps, act.id, by);
    case 'point.release':
      return releaseHold(deps, act.id, by);
    case 'target.settle':
      return settle(deps, act.id, by);
    case 'person.role': {
      const { display } = found(await deps.db('person').where({ id: act.id }).first<{ display: string } | undefined>('display'));
      return changePerson(deps, act.id, { display, role: act.role, remit: act.remit }, by, async (trx) => {
        for (const id of people) await rememberChange(trx, act.id, id);
      });
    }
  }
}

/** A changed policy: what is in force, and what would be. */
function difference(row: RequestRow, inForce: readonly PolicyRow[]): Request['difference'] {
  const act = fromJson<Act>(row.act);
  const policy = act.kind === 'policy.change' ? inForce.find((p) => p.id === act.id) : undefined;
  return policy && act.kind === 'policy.change' ? { before: policy.body, after: act.body } : null;
}

/** Counts again what an act would take, at the moment of deciding. Throws NOT_NOW where that is more than what was asked for: it is to be looked at again. */
async function sameEffect(deps: Deps, trx: Knex.Transaction, row: RequestRow): Promise<void> {
  const act = fromJson<Act>(row.act);
  const asked = fromJsonOrNull<Loss>(row.loss);
  if (act.kind !== 'policy.change' || !asked) return;
  const now = await lossBy(trx, deps.clock.now(), act.id, act.body);
  if (now.atOnce <= asked.atOnce && now.atOnce + now.earlier <= asked.atOnce + asked.earlier) return;
  const { name } = await trx('policy').where({ id: act.id }).first<{ name: string }>('name');
  throw new EffectGrew(now, `${name}: ${lossText(now)}`);
}

/** What was asked for would take more by now. */
class EffectGrew extends Error {
  constructor(
    readonly loss: Loss,
    readonly effect: string,
  ) {
    super('the effect grew');
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
      if (state === 'done') await sameEffect(deps, trx, row);
      await trx('request').where({ id }).update({ state, decided_by: actor.personId, decided_at: now });
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
      const inForce = await policiesInForce(db);
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
        difference: r.state === 'waiting' ? difference(r, inForce) : null,
      }));
      return { rows: await Promise.all(shown) };
    },

    async agreeRequest({ params, actor }) {
      const request = await decide(params.id, actor, 'done').catch(async (error: unknown) => {
        if (!(error instanceof EffectGrew)) throw error;
        await db('request')
          .where({ id: params.id })
          .update({ effect: error.effect.slice(0, 1000), loss: JSON.stringify(error.loss) });
        await deps.events.emit('request');
        throw new ApiError(
          'NOT_NOW',
          undefined,
          `It would take more by now than when it was asked for: ${lossText(error.loss)}. Look at it again, then decide. Nothing was changed.`,
        );
      });
      const asker = await db('person').where({ id: request.asked_by }).first<{ name: string }>('name');
      try {
        await carryOut(deps, fromJson<Act>(request.act), `${asker.name}, agreed by ${actor.name}`, [request.asked_by, actor.personId!]);
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
