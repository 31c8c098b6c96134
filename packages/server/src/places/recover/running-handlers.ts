import type { MachineWish, Progress, RunningRow } from '@lithodex/contract';
import { formatBytes } from '@lithodex/core';
import type { Knex } from 'knex';
import { appendAudit } from '../../base/audit/trail';
import { fromJson, fromJsonOrNull } from '../../base/db/json';
import { inTransaction } from '../../base/db/open';
import { ApiError, found } from '../../base/errors';
import type { Handlers } from '../../base/http/bind-routes';
import type { Deps } from '../../acts/deps';
import { askInventory } from '../../acts/estate/read-platform';
import type { PlatformRow } from '../../records/systems/platform-rows';
import type { RunMachinePlan } from '../../records/runs/planned-restore';
import { listedFor, stayingTasks } from '../../records/runs/staying-tasks';

interface Row {
  readonly id: string;
  readonly run_id: number;
  readonly workload_id: number;
  readonly name: string;
  readonly person: string;
  readonly reason: string;
  readonly since: number;
  readonly mover: string | null;
  readonly work: unknown;
  readonly progress: unknown;
  readonly moment: number | null;
  readonly platform: string | null;
}

const alive = ['waiting', 'running'];

function wishWords(wish: MachineWish): string {
  switch (wish.to) {
    case 'run':
      return 'goes on';
    case 'copy':
      return `copied to ${wish.storage}${wish.pace === null ? '' : ` at ${formatBytes(wish.pace)}/s`}`;
    case 'cutOver':
      return `cut over to ${wish.storage}, ${wish.stopped ? 'stopped for a moment' : 'while it runs'}`;
    case 'drop':
      return 'dropped, with what it wrote';
  }
}

/** Machines that run from the store. */
export function runningHandlers(deps: Deps): Pick<Handlers, 'listRunning' | 'steerRunning'> {
  const { db, clock } = deps;

  /** Throws INVALID where the storage is none its host sees. */
  async function checkStorage({ platformId, place }: RunMachinePlan, storage: string): Promise<void> {
    const row = found(await db('source').where({ id: platformId, kind: 'platform' }).first<PlatformRow | undefined>());
    const { storages } = await askInventory(deps, row);
    if (!storages.some((s) => s.name === storage && s.hosts.includes(place.host)))
      throw new ApiError('INVALID', [{ at: 'body.storage' }], `${place.host} does not see the storage ${storage}. Nothing was changed.`);
  }

  const wishOf = async (trx: Knex, task: string) =>
    found(
      await trx('task')
        .where({ id: task, type: 'runMachine' })
        .first<{ run_id: number; state: string; work: unknown } | undefined>('run_id', 'state', 'work'),
    );

  return {
    async listRunning({ actor }) {
      const rows = await listedFor(stayingTasks(db, 'runMachine', alive), actor)
        .leftJoin('point as p', db.raw("p.id = JSON_VALUE(t.work, '$.pick.pointId')"))
        .leftJoin('source as s', db.raw("s.id = JSON_VALUE(t.work, '$.platformId')"))
        .select<Row[]>(
          't.id',
          't.run_id',
          't.workload_id',
          'w.name',
          'r.person',
          'r.reason',
          db.raw('COALESCE(t.started_at, t.queued_at) as since'),
          't.mover',
          't.work',
          't.progress',
          'p.moment',
          's.name as platform',
        );
      return {
        rows: rows.map((row): RunningRow => {
          const { pick, place, wish, platformId } = fromJson<RunMachinePlan>(row.work);
          return {
            runId: row.run_id,
            taskId: row.id,
            workload: { id: row.workload_id, name: row.name },
            pointId: pick.pointId,
            moment: row.moment ?? 0,
            name: place.name,
            platform: { id: platformId, name: row.platform ?? '' },
            host: place.host,
            networks: [...place.networks],
            person: row.person,
            reason: row.reason,
            since: row.since,
            mover: row.mover,
            wish,
            now: fromJsonOrNull<Progress>(row.progress)?.machine ?? null,
          };
        }),
      };
    },

    async steerRunning({ params, body, actor }) {
      const before = await wishOf(db, params.id);
      if ('storage' in body) await checkStorage(fromJson<RunMachinePlan>(before.work), body.storage);
      await inTransaction(db, async (trx) => {
        await trx('task').where({ id: params.id }).forUpdate().first('id');
        const task = await wishOf(trx, params.id);
        if (!alive.includes(task.state)) throw new ApiError('NOT_NOW', undefined, 'It does not run from the store any more.');
        const plan = fromJson<RunMachinePlan>(task.work);
        if (plan.wish.to === 'drop') throw new ApiError('NOT_NOW', undefined, 'It is being dropped already.');
        if ('storage' in plan.wish && 'storage' in body && plan.wish.storage !== body.storage)
          throw new ApiError('NOT_NOW', undefined, `It is being copied to ${plan.wish.storage} already.`);
        await trx('task')
          .where({ id: params.id })
          .update({ work: JSON.stringify({ ...plan, wish: body }) });
        await appendAudit(trx, clock.now(), {
          actor: actor.name,
          action: 'running.wish',
          object: `run ${before.run_id}`,
          detail: `${plan.place.name}: ${wishWords(body)}`,
        });
      });
      await deps.events.emit('run', { runId: before.run_id });
      return {};
    },
  };
}
