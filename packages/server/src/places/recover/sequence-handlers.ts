import type { SequenceBody, SequenceRow } from '@lithodex/contract';
import { appendAudit } from '../../base/audit/trail';
import { inTransaction } from '../../base/db/open';
import { ApiError, found } from '../../base/errors';
import type { Handlers } from '../../base/http/bind-routes';
import type { Deps } from '../../acts/deps';
import { lookAtSteps, sequenceParts } from '../../acts/recover/sequence-parts';
import { beginSequence, moveStep, namesOfSteps, stopSequence } from '../../acts/recover/sequences';
import {
  bodyOfSequence,
  newestRuns,
  toSequenceRun,
  type SequenceRecord,
  type SequenceRunRecord,
} from '../../records/recover/sequence-rows';

type Names =
  | 'listSequences'
  | 'addSequence'
  | 'changeSequence'
  | 'removeSequence'
  | 'lookAtSequence'
  | 'trySequence'
  | 'startSequence'
  | 'listSequenceRuns'
  | 'getSequenceRun'
  | 'stopSequenceRun'
  | 'moveSequenceRun';
const mostKept = 100;
const mostRuns = 100;

/** Restores in their order: tried by drills, and started as they are. */
export function sequenceHandlers(deps: Deps): Pick<Handlers, Names> {
  const { db, clock } = deps;
  const rowOf = async (id: number) => found(await db('restore_sequence').where({ id, removed: false }).first<SequenceRecord | undefined>());

  /** Throws INVALID for steps of what is not there, and NAME_TAKEN. */
  async function check(body: SequenceBody, own?: number): Promise<void> {
    const names = await namesOfSteps(db, body.steps);
    const gone = names.findIndex((name) => name === undefined);
    if (gone >= 0)
      throw new ApiError('INVALID', [{ at: `body.steps.${gone}` }], `What step ${gone + 1} brings back is not there. Nothing was changed.`);
    const same = await db('restore_sequence').where({ name: body.name, removed: false }).first<{ id: number } | undefined>('id');
    if (same && same.id !== own) throw new ApiError('NAME_TAKEN');
  }

  return {
    async listSequences() {
      const rows = await db('restore_sequence').where({ removed: false }).orderBy('name').select<SequenceRecord[]>();
      const [tried, started] = [await newestRuns(db, true), await newestRuns(db, false)];
      const now = clock.now();
      const shown = (run: SequenceRunRecord | undefined) => (run ? toSequenceRun(run, now) : null);
      return {
        rows: rows.map((row): SequenceRow => ({
          id: row.id,
          body: bodyOfSequence(row),
          person: row.person,
          changedAt: row.changed_at,
          lastTrial: shown(tried.get(row.id)),
          lastReal: shown(started.get(row.id)),
        })),
        parts: await sequenceParts(db),
      };
    },

    async addSequence({ body, actor }) {
      await check(body);
      const kept = await db('restore_sequence').where({ removed: false }).count({ n: '*' }).first<{ n: number }>();
      if (Number(kept.n) >= mostKept) throw new ApiError('INVALID', undefined, `There are ${mostKept} already. Nothing was changed.`);
      return inTransaction(db, async (trx) => {
        const row = { name: body.name, body: JSON.stringify(body), person: actor.name, changed_at: clock.now() };
        const [id] = await trx('restore_sequence').insert(row);
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'sequence.add', object: body.name, detail: row.body });
        return { id: id! };
      });
    },

    async changeSequence({ params, body, actor }) {
      const row = await rowOf(params.id);
      await check(body, row.id);
      await inTransaction(db, async (trx) => {
        const now = { name: body.name, body: JSON.stringify(body), person: actor.name, changed_at: clock.now() };
        await trx('restore_sequence').where({ id: row.id }).update(now);
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'sequence.change', object: body.name, detail: now.body });
      });
      return {};
    },

    async removeSequence({ params, actor }) {
      const row = await rowOf(params.id);
      await inTransaction(db, async (trx) => {
        await trx('restore_sequence').where({ id: row.id }).update({ removed: true });
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'sequence.remove', object: row.name });
      });
      return {};
    },

    lookAtSequence: async ({ params, actor }) => ({
      steps: await lookAtSteps(deps, bodyOfSequence(await rowOf(params.id)).steps, actor.name),
    }),

    trySequence: async ({ params, actor }) => ({ id: await beginSequence(deps, await rowOf(params.id), true, actor.name, '') }),

    startSequence: async ({ params, body, actor }) => ({
      id: await beginSequence(deps, await rowOf(params.id), false, actor.name, body.reason),
    }),

    async listSequenceRuns({ query }) {
      const rows = await db('sequence_run')
        .modify((q) => {
          if (query.sequence !== undefined) void q.where({ sequence_id: query.sequence });
        })
        .orderBy('id', 'desc')
        .limit(mostRuns)
        .select<SequenceRunRecord[]>();
      return { rows: rows.map((row) => toSequenceRun(row, clock.now())) };
    },

    getSequenceRun: async ({ params }) =>
      toSequenceRun(found(await db('sequence_run').where({ id: params.id }).first<SequenceRunRecord | undefined>()), clock.now()),

    async stopSequenceRun({ params, actor }) {
      const row = found(await db('sequence_run').where({ id: params.id }).first<SequenceRunRecord | undefined>());
      // who may not restore may not keep somebody else's restore from going on
      if (row.trial === 0 && actor.role !== 'administrator') throw new ApiError('NOT_ALLOWED');
      await stopSequence(deps, row.id, actor.name);
      return {};
    },

    async moveSequenceRun({ params, body, actor }) {
      await moveStep(deps, params.id, body.step, body.how, actor.name);
      return {};
    },
  };
}
