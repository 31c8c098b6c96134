import { escapePath } from '@lithodex/core';
import { moverLanguage, type RunState } from '@lithodex/contract';
import { pipeline } from 'node:stream/promises';
import { moverNamed, stillGood, type Actor } from '../../base/http/access';
import type { Handlers } from '../../base/http/bind-routes';
import { isUnit } from '../../base/http/duties';
import { loadBatch, unload } from '../../records/catalog/load';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../../acts/deps';
import { ApiError } from '../../base/errors';
import { settleRun, type BackupPlan } from '../../acts/runs/queue';
import { fromJson } from '../../base/db/json';
import type { RestorePlan, RunMachinePlan } from '../../records/runs/planned-restore';
import { RateBook } from '../../records/runs/run-rates';
import { expireSeries } from '../../acts/runs/expiry';
import { Turns } from '../../base/turns';
import { followUp, settleCopy } from '../../acts/movers/follow-up';
import { claimTask } from '../../acts/movers/claim';
import { makeAdoptedVisible, meetPoint } from '../../acts/movers/adopt';
import { standOnly } from '../../acts/targets/follow';
import { followOn, pointToTake } from '../../acts/movers/follow-on';
import { makeVisible } from '../../acts/movers/commit-point';
import { rememberMade } from '../../acts/recover/standing';
import { meetMadeMachines } from '../../acts/movers/made-machines';
import { paceOfTask } from '../../records/movers/pace';
import { cutOff, endedBy } from '../../acts/movers/leases';
import { heldTask, pointIdOf } from '../../records/movers/running-task';
import { fromOf, sourceOf } from '../../records/systems/kinds-of-place';

type MoverHandlers = Pick<
  Handlers,
  | 'claim'
  | 'renew'
  | 'aliveTasks'
  | 'sendItems'
  | 'commitPoint'
  | 'pointCopied'
  | 'adoptPoint'
  | 'pointAdopted'
  | 'pointsStanding'
  | 'sendRestored'
  | 'callReader'
  | 'stream'
  | 'finishTask'
  | 'questions'
  | 'answer'
>;

/** Aborted when the caller goes away, or its token is withdrawn. */
function goneSignal(deps: Deps, actor: Actor, res: { on(event: 'close', run: () => void): unknown }): AbortSignal {
  const gone = new AbortController();
  const end = () => {
    gone.abort();
  };
  const off = deps.calls.onEnd(actor.key, end);
  res.on('close', () => {
    off();
    end();
  });
  return gone.signal;
}

/** The name of a mover that asks for work, if it speaks as we do. Throws MOVER_OUTDATED. */
function understood(deps: Deps, { mover, speaks }: { readonly mover: string; readonly speaks: number }, actor: Actor): string {
  const name = moverNamed(mover, actor);
  if (speaks === moverLanguage) return name;
  deps.movers.refuse(name);
  deps.log.warn({ mover: name, speaks, wanted: moverLanguage }, 'a mover is of another version than the server and gets no work');
  throw new ApiError('MOVER_OUTDATED');
}

/** What movers say and ask. */
export function moverHandlers(deps: Deps): MoverHandlers {
  const { db, clock } = deps;
  const rates = new RateBook();
  // who asks several times at once would choose the same task each time
  const turns = new Turns<string>();
  return {
    async claim({ body, res, actor }) {
      const gone = goneSignal(deps, actor, res);
      if (isUnit(actor)) throw new ApiError('NOT_ALLOWED');
      const mover = understood(deps, body, actor);
      deps.movers.note(mover, body.receives);
      for (const until = Date.now() + deps.config.claimWaitMs; !gone.aborted;) {
        const task = await turns.run(mover, async () => (gone.aborted ? undefined : claimTask(deps, { ...body, mover, actor })));
        if (task || Date.now() >= until || deps.movers.stopping) return { task: task ?? null };
        await deps.movers.work(Math.min(2000, until - Date.now()), gone);
      }
      await stillGood(db, actor);
      return { task: null };
    },

    async renew({ params, body, actor }) {
      const task = await heldTask(db, params.id, body.attempt, actor);
      await db('task')
        .where({ id: task.id, attempt: body.attempt, state: 'running' })
        .update({ lease_until: Date.now() + deps.config.leaseMs, ...(body.progress && { progress: JSON.stringify(body.progress) }) });
      if (body.progress) await rates.keep(db, task.id, clock.now(), body.progress, task.type === 'backup');
      if (body.log.length) {
        const rows = body.log.map((line, i) => ({
          run_id: task.run_id,
          task_id: task.id,
          attempt: body.attempt,
          batch: body.logSeq,
          line: i,
          at: clock.now(),
          level: line.level,
          code: line.code,
          path: Buffer.from(line.path, 'latin1'),
          message: line.message,
        }));
        await db('log_line').insert(rows).onConflict().ignore();
      }
      await deps.events.emit('progress', { runId: task.run_id, taskId: task.id, workloadId: task.workload_id });
      const runs = task.type === 'runMachine' ? fromJson<RunMachinePlan>(task.work) : null;
      if (runs && body.progress?.machine?.machine) {
        const machines = [body.progress.machine.machine];
        await meetMadeMachines(deps, { sourceId: runs.platformId, workloadId: task.workload_id!, taskId: task.id, machines, hours: null });
      }
      const wish = runs?.wish ?? null;
      return { stop: task.stop_requested === 1, pace: await paceOfTask(db, deps.config.zone, clock.now(), task), wish };
    },

    async sendItems({ params, body, actor }) {
      await inTransaction(db, async (trx) => {
        const task = await heldTask(trx, params.id, body.attempt, actor, ['backup', 'adopt']);
        if (task.series_no === null || task.ordinal === null) throw new ApiError('NOT_NOW');
        const key = { task_id: task.id, attempt: body.attempt, seq: body.seq };
        if (await trx('load_batch').where(key).first<{ seq: number } | undefined>()) return;
        await trx('load_batch').insert(key);
        await loadBatch(trx, task.series_no, task.ordinal, body.changes);
      });
      return {};
    },

    async commitPoint({ params, body, actor }) {
      const { task, next } = await inTransaction(db, async (trx) => {
        const held = await heldTask(trx, params.id, body.attempt, actor, ['backup']);
        const again = body.pointId !== pointIdOf(held);
        if (!again) {
          await makeVisible(trx, clock.now(), held, body.point);
          await trx('load_batch').where({ task_id: held.id }).delete();
        }
        if (!held.follows) return { task: held, next: null };
        return { task: held, next: again ? await pointToTake(deps, trx, held) : await followOn(deps, trx, held) };
      });
      await deps.events.emit('point', { runId: task.run_id, workloadId: task.workload_id, taskId: task.id });
      return { next };
    },

    async pointCopied({ params, body, actor }) {
      const workloadId = await inTransaction(db, async (trx) => {
        const task = await heldTask(trx, params.id, body.attempt, actor, ['copy']);
        await settleCopy(trx, clock.now(), task, body);
        return task.workload_id;
      });
      await deps.events.emit('point', { workloadId });
      return {};
    },

    async adoptPoint({ params, body, actor }) {
      return inTransaction(db, async (trx) =>
        meetPoint(trx, clock.now(), await heldTask(trx, params.id, body.attempt, actor, ['adopt']), body.point),
      );
    },

    async pointAdopted({ params, body, actor }) {
      const workloadId = await inTransaction(db, async (trx) =>
        makeAdoptedVisible(trx, clock.now(), await heldTask(trx, params.id, body.attempt, actor, ['adopt']), body),
      );
      // its workload may be new
      await deps.events.emit('estate', { workloadId });
      await deps.events.emit('point', { workloadId });
      return {};
    },

    async pointsStanding({ params, body, actor }) {
      const workloads = await inTransaction(db, async (trx) =>
        standOnly(trx, clock.now(), await heldTask(trx, params.id, body.attempt, actor, ['adopt']), body),
      );
      for (const workloadId of workloads) await deps.events.emit('point', { workloadId });
      return {};
    },

    async sendRestored({ params, body, actor }) {
      const task = await heldTask(db, params.id, body.attempt, actor, ['restore']);
      const words: Record<string, string> = {
        write: 'restored',
        merge: 'folder was there, its content is merged',
        leave: 'left: it exists',
        same: 'already there, identical',
        replace: 'replaced what was there',
        beside: 'put beside what was there',
        failed: 'could not be restored',
      };
      const rows = body.items.map((item, i) => ({
        run_id: task.run_id,
        task_id: task.id,
        attempt: body.attempt,
        batch: 1_000_000 + body.seq,
        line: i,
        at: clock.now(),
        level: item.action === 'failed' ? 'fault' : item.remark && item.action !== 'beside' ? 'warning' : 'note',
        code: item.action.toUpperCase(),
        path: Buffer.from(item.path, 'latin1'),
        message: `${words[item.action] ?? item.action}${item.remark ? `: ${item.action === 'failed' ? item.remark : escapePath(item.remark)}` : ''}`,
      }));
      if (rows.length) await db('log_line').insert(rows).onConflict().ignore();
      return {};
    },

    async aliveTasks({ params, body, actor }) {
      await heldTask(db, params.id, body.attempt, actor, ['prune', 'backup', 'drill']);
      const rows = await db('task').whereIn('id', body.tasks).whereIn('state', ['waiting', 'running']).select<{ id: string }[]>('id');
      return { alive: rows.map((r) => r.id) };
    },

    async callReader({ params, body, actor }) {
      const task = await heldTask(db, params.id, body.attempt, actor, ['backup', 'trial']);
      const asked = await inTransaction(db, async (trx) => {
        const workload = await sourceOf(trx, task.workload_id!);
        if (workload.read_by === null) throw new ApiError('NOT_NOW', undefined, 'No other mover reads this source any more.');
        const { scripts = null, kind } = fromJson<BackupPlan>(task.work);
        const from = await fromOf(trx, deps.secrets, workload);
        const told = { runId: task.run_id, workload: workload.name, source: workload.source, kind };
        const { address, ticket } = body;
        return { by: workload.read_by, question: { ask: 'read', address, ticket, from, scripts, task: told } as const };
      });
      await deps.movers.ask(asked.question, undefined, asked.by);
      return {};
    },

    async stream({ params, req, res, actor }) {
      const mine = await db('task')
        .where({ id: params.id, state: 'running', token_id: actor.tokenId, type: 'download' })
        .first<{ id: string } | undefined>('id');
      if (!mine) throw new ApiError('LEASE_LOST');
      const browser = await deps.downloads.take(params.id, 60_000);
      if (!browser) throw new ApiError('NOT_NOW', undefined, 'Nobody waits for this download any more.');
      await pipeline(req, browser);
      res.json({});
    },

    async finishTask({ params, body, actor }) {
      // what the new point lets go is queued before its own task ends, so that nothing looks finished too early
      const running = await heldTask(db, params.id, body.attempt, actor);
      if (running.type === 'backup' && running.series_no !== null && body.outcome === 'done') await expireSeries(deps, running.series_no);
      const done = await inTransaction(db, async (trx) => {
        const task = await heldTask(trx, params.id, body.attempt, actor);
        const point = await trx('point')
          .where({ id: pointIdOf(task) })
          .first<{ suspect: 0 | 1 } | undefined>();
        if (!point && task.series_no !== null && task.ordinal !== null) await unload(trx, task.series_no, task.ordinal);
        const { counts } = body;
        const state: RunState =
          body.outcome !== 'done'
            ? endedBy(body.outcome, task)
            : point?.suspect
              ? 'held'
              : counts.missing > 0 || counts.failed > 0
                ? 'partsMissing'
                : counts.warnings > 0
                  ? 'remarks'
                  : 'done';
        await trx('task')
          .where({ id: task.id })
          .update({
            state,
            ended_at: clock.now(),
            lease_until: null,
            progress: null,
            cause: state === 'cutOff' ? JSON.stringify(cutOff) : body.cause ? JSON.stringify(body.cause) : null,
            counts: JSON.stringify(counts),
            phases: JSON.stringify(body.phases),
            measured_ms: body.measured.ms,
            measured_bytes: body.measured.bytes,
          });
        await trx('edited_text').where({ task_id: task.id }).delete();
        await followUp(trx, clock.now(), task, state);
        await settleRun(deps, trx, task.run_id);
        return task;
      });
      if (body.made.length && done.type === 'restore' && done.workload_id !== null) {
        const { to } = fromJson<RestorePlan>(done.work);
        const { workload_id: id, run_id } = done;
        const known = await inTransaction(db, (trx) => rememberMade(trx, run_id, id, body.made));
        if ('platformId' in to) {
          const hours = to.destination.to === 'cloud' ? to.destination.hours : null;
          await meetMadeMachines(deps, { sourceId: to.platformId, workloadId: known ?? id, taskId: done.id, machines: body.made, hours });
        }
      }
      rates.ended(done.id);
      await deps.events.emit('run', { runId: done.run_id, workloadId: done.workload_id, taskId: done.id });
      deps.movers.workAppeared();
      return {};
    },

    async questions({ body, res, actor }) {
      const asked = await deps.movers.next(understood(deps, body, actor), actor, goneSignal(deps, actor, res));
      try {
        await stillGood(db, actor);
      } catch (error) {
        if (asked) deps.movers.putBack(asked.id);
        throw error;
      }
      return asked ?? { id: null, question: null };
    },

    async answer({ params, body, actor }) {
      deps.movers.answer(params.id, actor, body.ok, body.answer);
      return {};
    },
  };
}
