import { wholeServer } from '@lithodex/kinds';
import { appendAudit } from '../../base/audit/trail';
import { fromJson } from '../../base/db/json';
import { inTransaction } from '../../base/db/open';
import { ApiError, found } from '../../base/errors';
import { within, type Actor } from '../../base/http/access';
import type { Handlers } from '../../base/http/bind-routes';
import type { Deps } from '../../acts/deps';
import type { RunRecord } from '../../records/runs/run-rows';
import { visibleRuns, whereTaskVisible } from '../../records/runs/visible-runs';
import type { RestorePlan } from '../../records/runs/planned-restore';
import { databaseOfRow, type SystemRow } from '../../records/systems/system-rows';

type ScratchHandlers = Pick<Handlers, 'inside' | 'insideRows' | 'insideDifference' | 'endInside'>;

const askMs = 30_000;
/** A comparison that takes longer is given up by the mover itself. */
const compareMs = 60_000;
const rowsAtOnce = 100;

interface Made {
  readonly taskId: string;
  readonly mover: string;
  readonly workloadId: number;
  readonly workload: string;
  readonly sourceId: number;
  /** The moment that was made. */
  readonly at: number;
  readonly toSecond: boolean;
  readonly commit: string | null;
}

/** Scratch servers that restores left up, which live on the mover that made them. */
export function scratchHandlers(deps: Deps): ScratchHandlers {
  const { db, clock } = deps;

  async function madeBy(runId: number, actor: Actor): Promise<Made> {
    const run = found(await visibleRuns(db, actor).where('r.id', runId).where('r.kind', 'restore').first<RunRecord | undefined>('r.*'));
    const q = db('task as t')
      .join('workload as w', 'w.id', 't.workload_id')
      .where({ 't.run_id': run.id, 't.type': 'restore', 't.state': 'done' });
    whereTaskVisible(q, actor, run);
    const task = found(
      await q.first<{ id: string; mover: string; workload_id: number; name: string; work: unknown } | undefined>(
        't.id',
        't.mover',
        't.workload_id',
        'w.name',
        't.work',
      ),
    );
    const { to, picks } = fromJson<RestorePlan>(task.work);
    if (to.kind !== 'database' || !to.destination.stays) throw new ApiError('NOT_FOUND');
    within(actor, task.workload_id);
    const { until } = to.destination;
    const point = await db('point').where({ id: picks[0]!.pointId }).first<{ moment: number } | undefined>('moment');
    return {
      taskId: task.id,
      mover: task.mover,
      workloadId: task.workload_id,
      workload: task.name,
      sourceId: to.sourceId,
      at: until?.at ?? point?.moment ?? 0,
      toSecond: until !== null,
      commit: until && 'file' in until ? `${until.file}@${until.position}` : null,
    };
  }

  /** The server that it was taken of, where it is connected still and what it holds can be told by name. */
  const serverOf = ({ sourceId }: Made) =>
    db('source as s')
      .join('workload as w', 'w.source_id', 's.id')
      .where({ 's.id': sourceId, 's.kind': 'database', 'w.outer_id': wholeServer })
      .whereNotNull('s.secret')
      .first<SystemRow | undefined>('s.*');

  const audited = (actor: Actor, action: string, runId: number, detail: unknown) =>
    inTransaction(db, (trx) =>
      appendAudit(trx, clock.now(), { actor: actor.name, action, object: `run ${runId}`, detail: JSON.stringify(detail) }),
    );

  return {
    async inside({ params, actor }) {
      const made = await madeBy(params.id, actor);
      const { taskId, mover, workload, workloadId, at, toSecond, commit } = made;
      const held = await deps.movers.ask({ ask: 'inside', taskId }, askMs, mover);
      return { ...held, workload, workloadId, at, mover, toSecond, commit, comparable: (await serverOf(made)) !== undefined };
    },

    async insideRows({ params, query, actor }) {
      const { taskId, mover } = await madeBy(params.id, actor);
      const { database, table, column, text, offset } = query;
      const holds = column !== undefined && text ? { column, text } : null;
      await audited(actor, 'rows.read', params.id, { database, table });
      const rows = await deps.movers.ask(
        { ask: 'rowsInside', taskId, table: { database, table }, which: { holds, offset, limit: rowsAtOnce } },
        askMs,
        mover,
      );
      return { ...rows, offset };
    },

    async insideDifference({ params, query, actor }) {
      const made = await madeBy(params.id, actor);
      const row = await serverOf(made);
      if (!row) throw new ApiError('NOT_NOW', undefined, 'The server that it was taken of is not connected any more.');
      await audited(actor, 'rows.compare', params.id, query);
      const question = { ask: 'compareInside', taskId: made.taskId, from: databaseOfRow(deps.secrets, row), table: query } as const;
      return { server: row.name, ...(await deps.movers.ask(question, compareMs, made.mover)) };
    },

    async endInside({ params, actor }) {
      const { taskId, mover } = await madeBy(params.id, actor);
      await deps.movers.ask({ ask: 'endScratch', taskId }, askMs, mover);
      await audited(actor, 'scratch.end', params.id, {});
      return {};
    },
  };
}
