import type { LiveEvent } from '@lithodex/contract';
import type { Knex } from 'knex';
import type { Actor } from '../../base/http/access';
import type { RunRecord, TaskRecord } from './run-rows';

/** Whether somebody sees all of a run: a clerk only what they asked for themselves. */
const seesAll = (actor: Actor, run: Pick<RunRecord, 'person'>) => actor.remit === null || run.person === actor.name;

/** Runs an actor may see: a clerk only their own, and those with something of their remit. */
export function visibleRuns(db: Knex, actor: Actor) {
  const query = db('run as r').whereNot('r.kind', 'expire');
  const { remit } = actor;
  if (remit)
    void query.where((q) => {
      void q.where('r.person', actor.name).orWhereIn('r.id', db('task').whereIn('workload_id', remit).select('run_id'));
    });
  return query;
}

/** The tasks of a run that an actor may see. */
export function visibleTasks(actor: Actor, run: RunRecord, tasks: readonly TaskRecord[]): readonly TaskRecord[] {
  const { remit } = actor;
  return remit === null || seesAll(actor, run) ? tasks : tasks.filter((t) => t.workload_id !== null && remit.includes(t.workload_id));
}

/** A run as an actor may know of it: what is kept of the whole is none of theirs who see a part. */
export function visibleRun<R extends RunRecord>(actor: Actor, run: R): R {
  return seesAll(actor, run) ? run : { ...run, sums: null };
}

/** Narrows a query with tasks `t` of a run to those an actor may see. */
export function whereTaskVisible(q: Knex.QueryBuilder, actor: Actor, run: RunRecord): void {
  if (actor.remit && !seesAll(actor, run)) void q.whereIn('t.workload_id', [...actor.remit]);
}

/** Kinds of change that concern no workload, and so no clerk. */
const ofAll: readonly LiveEvent['kind'][] = ['policy', 'request', 'matter', 'room'];

/** Tells which events an actor may know of. */
export function eventsFor(db: Knex, actor: Actor): (event: LiveEvent) => boolean | Promise<boolean> {
  const { remit } = actor;
  if (remit === null) return () => true;
  const known = new Map<number, boolean>();
  return async ({ kind, workloadId, runId }) => {
    if (workloadId !== null) return remit.includes(workloadId);
    if (runId === null) return !ofAll.includes(kind);
    const seen = known.get(runId) ?? (await visibleRuns(db, actor).where('r.id', runId).first('r.id')) !== undefined;
    known.set(runId, seen);
    return seen;
  };
}
