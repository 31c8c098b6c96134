import type { WorkType } from '@lithodex/contract';
import type { Knex } from 'knex';
import type { Actor } from '../../base/http/access';

const mostListed = 500;

/** Tasks of a type that go on for long (`t`), with their run (`r`) and workload (`w`), in one of these states. */
export function stayingTasks(db: Knex, type: WorkType, states: readonly string[]): Knex.QueryBuilder {
  return db('task as t')
    .join('run as r', 'r.id', 't.run_id')
    .join('workload as w', 'w.id', 't.workload_id')
    .where({ 't.type': type })
    .whereIn('t.state', [...states]);
}

/** Those of them that somebody may see, the oldest first. */
export function listedFor(tasks: Knex.QueryBuilder, { remit }: Pick<Actor, 'remit'>): Knex.QueryBuilder {
  if (remit) void tasks.whereIn('t.workload_id', [...remit]);
  return tasks.orderBy('t.queued_at').limit(mostListed);
}
