import { escapePath } from '@lithodex/core';
import type { Attached, Progress } from '@lithodex/contract';
import { appendAudit } from '../../base/audit/trail';
import { fromJson, fromJsonOrNull } from '../../base/db/json';
import { inTransaction } from '../../base/db/open';
import { ApiError, found } from '../../base/errors';
import type { Handlers } from '../../base/http/bind-routes';
import type { Deps } from '../../acts/deps';
import type { AttachPlan } from '../../records/runs/planned-restore';
import { listedFor, stayingTasks } from '../../records/runs/staying-tasks';

interface Row {
  readonly id: string;
  readonly run_id: number;
  readonly workload_id: number;
  readonly name: string;
  readonly person: string;
  readonly reason: string;
  readonly started_at: number;
  readonly mover: string;
  readonly state: string;
  readonly work: unknown;
  readonly progress: unknown;
}

/** Disks and volumes of points that are attached now. */
export function attachHandlers({ db, clock, movers }: Deps): Pick<Handlers, 'listAttached' | 'attached'> {
  const inState = (...states: string[]) => stayingTasks(db, 'attach', states);
  return {
    async listAttached({ actor }) {
      const rows = await listedFor(inState('running'), actor).select<Row[]>(
        't.id',
        't.run_id',
        't.workload_id',
        'w.name',
        'r.person',
        'r.reason',
        't.started_at',
        't.mover',
        't.work',
        't.progress',
      );
      const plans = rows.map((row) => fromJson<AttachPlan>(row.work));
      const points = await db('point')
        .whereIn(
          'id',
          plans.map((p) => p.pick.pointId),
        )
        .select<{ id: string; moment: number }[]>('id', 'moment');
      const moments = new Map(points.map((p) => [p.id, p.moment]));
      return {
        rows: rows.map((row, i): Attached => {
          const { pick, until, as = 'device' } = plans[i]!;
          return {
            runId: row.run_id,
            workload: { id: row.workload_id, name: row.name },
            pointId: pick.pointId,
            moment: moments.get(pick.pointId) ?? 0,
            path: escapePath(pick.path),
            as,
            person: row.person,
            reason: row.reason,
            since: row.started_at,
            until,
            mover: row.mover,
            read: fromJsonOrNull<Progress>(row.progress)?.read ?? 0,
            mine: row.person === actor.name,
          };
        }),
      };
    },

    async attached({ params, actor }) {
      const row = found(
        await inState('waiting', 'running')
          .where('t.run_id', params.id)
          .first<Row | undefined>('t.id', 't.mover', 't.work', 't.state', 'r.person'),
      );
      if (row.person !== actor.name) throw new ApiError('NOT_ALLOWED', undefined, 'Only the person who attached it is shown its key.');
      const { until } = fromJson<AttachPlan>(row.work);
      const at = row.state === 'running' ? await movers.ask({ ask: 'attached', taskId: row.id }, undefined, row.mover) : null;
      if (!at) return { at, until };
      await inTransaction(db, (trx) =>
        appendAudit(trx, clock.now(), { actor: actor.name, action: 'attached.key', object: `run ${params.id}` }),
      );
      return { at, until };
    },
  };
}
