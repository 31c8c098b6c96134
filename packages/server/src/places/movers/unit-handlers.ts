import { randomBytes } from 'node:crypto';
import { moverLanguage } from '@lithodex/contract';
import { appendAudit } from '../../base/audit/trail';
import { fromJson } from '../../base/db/json';
import { inTransaction } from '../../base/db/open';
import { ApiError } from '../../base/errors';
import { moverNamed, tokenHash } from '../../base/http/access';
import type { Handlers } from '../../base/http/bind-routes';
import { isUnit } from '../../base/http/duties';
import { keyOfToken } from '../../base/http/open-calls';
import type { Deps } from '../../acts/deps';
import { heldTask } from '../../records/movers/running-task';
import { busyUnits, knownUnits, rememberUnit, runsAtUnits } from '../../records/movers/units';
import type { RestorePlan } from '../../records/runs/planned-restore';

type UnitHandlers = Pick<Handlers, 'tellUnit' | 'callUnit' | 'listUnits' | 'inviteUnit' | 'forgetUnit'>;

const codeMs = 86_400_000;
const keptMs = 30 * 86_400_000;

/** Machines that were started from a recovery medium: how they come in, what they say, and how they are reached. */
export function unitHandlers(deps: Deps): UnitHandlers {
  const { db, clock } = deps;
  // hosts live in real time, whatever the clock of the installation says
  const now = () => Date.now();
  return {
    async tellUnit({ body: { unit, speaks, facts }, actor }) {
      if (!isUnit(actor)) throw new ApiError('NOT_ALLOWED', undefined, 'Only what was let in as a unit says what it is.');
      const name = moverNamed(unit, actor);
      if (speaks !== moverLanguage) throw new ApiError('MOVER_OUTDATED');
      await rememberUnit(db, name, facts, now());
      deps.movers.saw(name, actor);
      return {};
    },

    async callUnit({ params, body, actor }) {
      const task = await heldTask(db, params.id, body.attempt, actor, ['restore']);
      const { to } = fromJson<RestorePlan>(task.work);
      const unit = to.kind === 'files' ? to.unit : undefined;
      if (!unit) throw new ApiError('NOT_NOW', undefined, 'This task is about no unit.');
      const { address, ticket } = body;
      await deps.movers.ask({ ask: 'rebuild', address, ticket, task: { runId: task.run_id } }, undefined, unit.name);
      return {};
    },

    async listUnits() {
      await db('unit')
        .where('last_seen', '<', now() - keptMs)
        .delete();
      const units = await knownUnits(db);
      const present = new Set(deps.movers.presentUnits());
      const runs = await runsAtUnits(
        db,
        units.map((u) => u.name),
      );
      const servers = await db('workload as w')
        .join('source as s', 's.id', 'w.source_id')
        .where({ 's.whole_server': true })
        .orderBy('w.name')
        .select<{ id: number; name: string }[]>('w.id', 'w.name');
      return { servers, rows: units.map((u) => ({ ...u, present: present.has(u.name), run: runs.get(u.name) ?? null })) };
    },

    async inviteUnit({ actor }) {
      const code = `lxu_${randomBytes(24).toString('base64url')}`;
      const until = now() + codeMs;
      await inTransaction(db, async (trx) => {
        await trx('join_code').where('until', '<', now()).delete();
        await trx('join_code').insert({
          hash: tokenHash(code),
          duties: JSON.stringify(['rebuild']),
          systems: JSON.stringify([]),
          made_by: actor.name,
          until,
        });
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'unit.invite', object: 'units' });
      });
      return { code, until };
    },

    async forgetUnit({ params: { id }, actor }) {
      if ((await busyUnits(db)).has(id)) throw new ApiError('NOT_NOW', undefined, 'It is being made anew. Stop that run first.');
      const tokens = await inTransaction(db, async (trx) => {
        if (!(await trx('unit').where({ name: id }).delete())) throw new ApiError('NOT_FOUND');
        const held = await trx('api_token')
          .where({ mover: id })
          .whereRaw('JSON_CONTAINS(duties, \'"rebuild"\')')
          .select<{ id: number }[]>('id');
        await trx('api_token')
          .whereIn(
            'id',
            held.map((t) => t.id),
          )
          .delete();
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'unit.forget', object: `unit ${id}` });
        return held;
      });
      // once it is good no more, so that nobody comes in again with it meanwhile
      for (const token of tokens) {
        deps.calls.end(keyOfToken(token.id));
        deps.movers.forget(token.id);
      }
      return {};
    },
  };
}
