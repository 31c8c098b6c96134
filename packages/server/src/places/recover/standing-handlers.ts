import { runsBetween } from '@lithodex/core';
import type { StandingBody, StandingEvidence, StandingRow } from '@lithodex/contract';
import { v7 as newId } from 'uuid';
import { appendAudit } from '../../base/audit/trail';
import { fromJson } from '../../base/db/json';
import { inTransaction } from '../../base/db/open';
import { ApiError, found } from '../../base/errors';
import type { Handlers } from '../../base/http/bind-routes';
import type { Deps } from '../../acts/deps';
import { beginStanding } from '../../acts/recover/standing';
import { placeOfStanding } from '../../acts/recover/sequence-parts';
import { bodyOfStanding, timetableOf, type StandingRecord } from '../../records/recover/standing-rows';
import type { RestorePlan } from '../../records/runs/planned-restore';
import { tasksOf, toRunRow, type RunRecord } from '../../records/runs/run-rows';

type Names = 'listStanding' | 'standingEvidence' | 'addStanding' | 'changeStanding' | 'removeStanding' | 'startStanding';
const mostKept = 100;
const mostEvidence = 400;
const weekMs = 8 * 86_400_000;

/** Restores that are repeated. */
export function standingHandlers(deps: Deps): Pick<Handlers, Names> {
  const { db, clock } = deps;
  const rowOf = async (no: number) => found(await db('standing_restore').where({ no, ended: false }).first<StandingRecord | undefined>());

  /** Throws INVALID for workloads that are not there, and NAME_TAKEN. */
  async function check(body: StandingBody, own?: number): Promise<void> {
    const known = await db('workload').whereIn('id', body.workloads).select<{ id: number; kind: string }[]>('id', 'kind');
    if (known.length !== new Set(body.workloads).size)
      throw new ApiError('INVALID', [{ at: 'body.workloads' }], 'One of the workloads is not there. Nothing was changed.');
    const wants = { platform: 'machine', cloud: 'machine', server: 'database', folder: undefined }[body.destination.to];
    if (wants && known.some((w) => w.kind !== wants))
      throw new ApiError('INVALID', [{ at: 'body.destination' }], 'Not all of the workloads can go there. Nothing was changed.');
    const same = await db('standing_restore').where({ name: body.name, ended: false }).first<{ no: number } | undefined>('no');
    if (same && same.no !== own) throw new ApiError('NAME_TAKEN');
  }

  async function evidenceOf(no: number, most: number): Promise<StandingEvidence[]> {
    const runs = await db('run').where({ standing_no: no }).orderBy('id', 'desc').limit(most).select<RunRecord[]>();
    const ids = runs.map((r) => r.id);
    const tasks = await tasksOf(db, ids);
    const works = await db('task').whereIn('run_id', ids).select<{ run_id: number; work: unknown }[]>('run_id', 'work');
    const points = [...new Set(works.flatMap((w) => fromJson<RestorePlan>(w.work).picks.map((p) => p.pointId)))];
    const moments = new Map(
      (await db('point').whereIn('id', points).select<{ id: string; moment: number }[]>('id', 'moment')).map((p) => [p.id, p.moment]),
    );
    const lines = await db('log_line')
      .whereIn('run_id', ids)
      .whereIn('code', ['SUMMARY', 'EVIDENCE'])
      .orderBy('seq')
      .select<{ run_id: number; message: string }[]>('run_id', 'message');
    return runs.map((run) => {
      const shown = toRunRow(
        run,
        tasks.filter((t) => t.run_id === run.id),
        undefined,
      );
      const own = works
        .filter((w) => w.run_id === run.id)
        .flatMap((w) => fromJson<RestorePlan>(w.work).picks.map((p) => moments.get(p.pointId)));
      return {
        runId: run.id,
        at: run.queued_at,
        state: run.state,
        items: shown.counts.items,
        bytes: shown.counts.bytes,
        took: run.started_at !== null && run.ended_at !== null ? run.ended_at - run.started_at : null,
        moments: [...new Set(own.filter((m) => m !== undefined))],
        says:
          shown.cause?.message ??
          lines
            .filter((l) => l.run_id === run.id)
            .map((l) => l.message)
            .join('; '),
      };
    });
  }

  return {
    async listStanding() {
      const rows = await db('standing_restore').where({ ended: false }).orderBy('name').select<StandingRecord[]>();
      const names = new Map((await db('workload').select<{ id: number; name: string }[]>('id', 'name')).map((w) => [w.id, w.name]));
      return {
        rows: await Promise.all(
          rows.map(async (row): Promise<StandingRow> => {
            const body = bodyOfStanding(row);
            const [last] = await evidenceOf(row.no, 1);
            const now = clock.now();
            const timetable = timetableOf(body, deps.config.zone);
            const [next] = timetable ? runsBetween(timetable, now, now + weekMs) : [];
            return {
              id: row.no,
              body,
              workloads: body.workloads.map((id) => ({ id, name: names.get(id) ?? '' })),
              place: await placeOfStanding(db, body),
              person: row.person,
              next: next ?? null,
              trouble: row.trouble,
              last: last ?? null,
            };
          }),
        ),
      };
    },

    standingEvidence: async ({ params }) => ({ rows: await evidenceOf((await rowOf(params.id)).no, mostEvidence) }),

    async addStanding({ body, actor }) {
      await check(body);
      const kept = await db('standing_restore').where({ ended: false }).count({ n: '*' }).first<{ n: number }>();
      if (Number(kept.n) >= mostKept) throw new ApiError('INVALID', undefined, `There are ${mostKept} already. Nothing was changed.`);
      return inTransaction(db, async (trx) => {
        const row = { id: newId(), name: body.name, body: JSON.stringify(body), person: actor.name, due_from: clock.now() };
        const [id] = await trx('standing_restore').insert(row);
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'standing.add', object: body.name, detail: body.reason });
        return { id: id! };
      });
    },

    async changeStanding({ params, body, actor }) {
      const row = await rowOf(params.id);
      await check(body, row.no);
      await inTransaction(db, async (trx) => {
        await trx('standing_restore')
          .where({ no: row.no })
          // what was brought may lie elsewhere
          .update({ name: body.name, body: JSON.stringify(body), due_from: clock.now(), trouble: '', brought: null });
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'standing.change', object: body.name, detail: body.reason });
      });
      return {};
    },

    async removeStanding({ params, actor }) {
      const row = await rowOf(params.id);
      await inTransaction(db, async (trx) => {
        await trx('standing_restore').where({ no: row.no }).update({ ended: true });
        await appendAudit(trx, clock.now(), { actor: actor.name, action: 'standing.end', object: row.name });
      });
      return {};
    },

    async startStanding({ params, actor }) {
      const row = await rowOf(params.id);
      const runId = await beginStanding(deps, row, 'hand', actor.name);
      await inTransaction(db, (trx) =>
        appendAudit(trx, clock.now(), { actor: actor.name, action: 'standing.run', object: row.name, detail: `run ${runId}` }),
      );
      return { runId };
    },
  };
}
