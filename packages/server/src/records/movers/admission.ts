import { taskTypes, typesThat, type TaskType, type WorkType } from '@lithodex/contract';
import type { Knex } from 'knex';
import { fromJsonOrNull } from '../../base/db/json';
import { typesInSql } from './types-in-sql';

const writing = (t: TaskType) => t.writesTarget;
const reading = (t: TaskType) => t.readsSource;
const urgent = (t: TaskType) => t.urgent;

const running = (types: string, more: string) =>
  `(SELECT COUNT(*) FROM task b WHERE b.state = 'running' AND b.follows = 0 AND b.type ${types}${more})`;
const unlimited = 1_000_000;
/** Name of the setting that limits all. */
const tasksAtOnce = 'tasks-at-once';

type Limit<K extends string> = Record<K, number> | undefined;

/** Leaves out waiting tasks `t` for which their target, their source or the installation has no room now. A log that is followed takes no place and needs none. */
export function whereAdmitted(query: Knex.QueryBuilder): Knex.QueryBuilder {
  const there = running(`IN (${typesInSql(writing)})`, " AND JSON_VALUE(b.work, '$.targetId') = JSON_VALUE(t.work, '$.targetId')");
  const readers = running(
    `IN (${typesInSql(reading)})`,
    ' AND b.workload_id IN (SELECT y.id FROM workload x JOIN workload y ON y.source_id = x.source_id WHERE x.id = t.workload_id)',
  );
  const readersOf = 'SELECT s.readers FROM source s JOIN workload w ON w.source_id = s.id WHERE w.id = t.workload_id';
  return query
    .whereRaw(
      `(t.follows = 1 OR t.type NOT IN (${typesInSql(writing)}) OR ${there}
        < COALESCE((SELECT g.writers FROM target g WHERE g.id = JSON_VALUE(t.work, '$.targetId')), ${unlimited}))`,
    )
    .whereRaw(`(t.follows = 1 OR t.type NOT IN (${typesInSql(reading)}) OR ${readers} < COALESCE((${readersOf}), ${unlimited}))`)
    .whereRaw(
      `(t.follows = 1 OR t.type IN (${typesInSql(urgent)}) OR ${running(`NOT IN (${typesInSql(urgent)})`, '')}
        < COALESCE((SELECT JSON_VALUE(i.value, '$') FROM setting i WHERE i.name = '${tasksAtOnce}') + 0, ${unlimited}))`,
    );
}

/** Whether another mover has just taken the last place that the task could have had. Of two that ask at once, one waits here for the other. */
export async function isFull(
  trx: Knex.Transaction,
  task: { readonly type: WorkType; readonly work: unknown; readonly workload_id: number | null; readonly follows: 0 | 1 },
): Promise<boolean> {
  if (task.follows) return false;
  const count = async (which: (q: Knex.QueryBuilder) => Knex.QueryBuilder) =>
    Number(
      (
        await which(trx('task').where({ state: 'running', follows: false }))
          .count({ n: '*' })
          .first<{ n: number }>()
      ).n,
    );
  const type = taskTypes[task.type];
  if (type.writesTarget) {
    const { targetId } = fromJsonOrNull<{ targetId: string }>(task.work)!;
    const target = await trx('target').where({ id: targetId }).whereNotNull('writers').forUpdate().first<Limit<'writers'>>('writers');
    const there = () => count((q) => q.whereIn('type', typesThat(writing)).whereRaw("JSON_VALUE(work, '$.targetId') = ?", [targetId]));
    if (target && (await there()) >= target.writers) return true;
  }
  if (type.readsSource) {
    const of = trx('workload').where({ id: task.workload_id }).select('source_id');
    const source = await trx('source')
      .whereIn('id', of)
      .whereNotNull('readers')
      .forUpdate()
      .first<Limit<'id' | 'readers'>>('id', 'readers');
    const there = () =>
      count((q) =>
        q.whereIn('type', typesThat(reading)).whereIn('workload_id', trx('workload').where({ source_id: source!.id }).select('id')),
      );
    if (source && (await there()) >= source.readers) return true;
  }
  if (type.urgent) return false;
  const limit = await limitOfAll(trx, (q) => q.forUpdate());
  return limit !== null && (await count((q) => q.whereNotIn('type', typesThat(urgent)))) >= limit;
}

/** How many tasks run at once in all, but for restores and downloads, which never wait for the others; null for no limit. */
export async function limitOfAll(db: Knex, how = (q: Knex.QueryBuilder): Knex.QueryBuilder => q): Promise<number | null> {
  const row = await how(db('setting').where({ name: tasksAtOnce })).first<{ value: unknown } | undefined>('value');
  return fromJsonOrNull<number>(row?.value) ?? null;
}

/** Sets that limit, or lifts it with null. */
export async function setLimitOfAll(db: Knex, limit: number | null): Promise<void> {
  if (limit === null) await db('setting').where({ name: tasksAtOnce }).delete();
  else
    await db('setting')
      .insert({ name: tasksAtOnce, value: JSON.stringify(limit) })
      .onConflict()
      .merge();
}
