import type { Body, RestoreBody } from '@lithodex/contract';
import type { Knex } from 'knex';
import { appendAudit } from '../../base/audit/trail';
import { inTransaction } from '../../base/db/open';
import { ApiError } from '../../base/errors';
import type { Actor } from '../../base/http/access';
import type { Deps } from '../deps';
import { plannerFor } from '../kinds/planner-for';
import type { Rescue, RestoreTask } from './restore-planner';
import { backupTasks, queueRun } from '../runs/queue';
import { keepEdited } from '../../records/runs/edited-texts';
import { planRestore, refuseStops } from './restore-plan';

/** So long a point stands that was taken before something was replaced. */
const rescueDays = 7;

/** Takes a point of what is about to be replaced. Throws NOT_NOW while another one is being taken. */
async function queueRescue(
  trx: Knex.Transaction,
  now: number,
  { workloadId, workload, targetId }: Rescue,
  person: string,
  reason: string,
): Promise<number> {
  const plan = { targetId, kind: 'incremental' as const, include: [], exclude: [], lockDays: null };
  const tasks = await backupTasks(trx, [workloadId], plan, 'backup');
  if (!tasks.length)
    throw new ApiError(
      'NOT_NOW',
      undefined,
      `${workload} is being protected right now. Restore it when that has ended, or without a point that is taken first.`,
    );
  return queueRun(trx, now, {
    kind: 'backup',
    pointKind: plan.kind,
    startedBy: 'onDemand',
    name: `${workload}, before it is replaced`,
    person,
    reason,
    keepOwn: { by: 'days', days: rescueDays },
    priority: 'first',
    tasks,
  });
}

/** A text takes the place of one item of a database server. Throws INVALID. */
function checkEdited({ picks, until, destination }: RestoreBody, tasks: readonly RestoreTask[]): void {
  const refuse = (text: string) => new ApiError('INVALID', [{ at: 'body.edited' }], `${text} Nothing was changed.`);
  const isDatabase = tasks.every(({ work }) => work.type === 'restore' && work.to.kind === 'database');
  if (!isDatabase || destination.to === 'scratch') throw refuse('Only what goes to a database server can be edited.');
  if (picks.length !== 1 || until) throw refuse('An edited text stands for one item of one point.');
}

/**
 * Begins a restore, once its plan has nothing against it. `also` is done in the same transaction. Returns the run.
 * Throws INVALID, NOT_NOW, NOT_ALLOWED, OUTSIDE_REMIT.
 */
export async function startRestore(
  deps: Deps,
  body: Body<'startRestore'>,
  actor: Actor,
  also?: (trx: Knex.Transaction, runId: number) => Promise<void>,
): Promise<number> {
  const { db, clock } = deps;
  const { plan, picks, rescue } = await planRestore(deps, body, actor);
  refuseStops(plan);
  const planner = plannerFor(body, picks);
  const { edited } = body;
  const tasks = await planner.tasks(deps, body, picks);
  if (edited !== undefined) checkEdited(body, tasks);
  const rules = `${planner.rules(body)}${edited === undefined ? '' : ', from a text that was edited'}`;
  // the system that keeps what is read, where no target of ours does
  const opens = picks.find((p) => p.point.onStorage)?.point.onStorage?.sourceId;
  const kind = body.destination.to === 'download' ? 'download' : 'restore';
  const runId = await inTransaction(db, async (trx) => {
    const after = rescue ? await queueRescue(trx, clock.now(), rescue, actor.name, body.reason) : undefined;
    const id = await queueRun(trx, clock.now(), {
      kind,
      startedBy: 'hand',
      name: body.name,
      person: actor.name,
      reason: body.reason,
      rules,
      after,
      tasks: tasks.map((t) => ({
        ...t,
        work: { ...t.work, ...(edited !== undefined && { edited: true }), ...(opens !== undefined && { opens }) },
        seriesNo: null,
        type: t.work.type,
      })),
    });
    if (edited !== undefined) await keepEdited(trx, deps.secrets, id, edited);
    await appendAudit(trx, clock.now(), {
      actor: actor.name,
      action: body.trial ? 'restore.trial' : `${kind}.start`,
      object: `run ${id}`,
      detail: JSON.stringify({ reason: body.reason, rules, picks: body.picks.slice(0, 50), count: picks.length }),
    });
    await also?.(trx, id);
    return id;
  });
  deps.movers.workAppeared();
  await deps.events.emit('run', { runId });
  return runId;
}
