import { paceAt } from '@lithodex/core';
import { taskTypes, typesThat, type PaceWindow, type WorkType } from '@lithodex/contract';
import type { Knex } from 'knex';
import { fromJsonOrNull } from '../../base/db/json';

/** Bytes a second for one of the tasks that write to a target now, or verify it: its share of what the target allows at this hour. Null for no limit. */
export async function paceOfTask(
  db: Knex,
  zone: string,
  now: number,
  task: { readonly type: WorkType; readonly work: unknown },
): Promise<number | null> {
  if (!taskTypes[task.type].paced) return null;
  const { targetId } = fromJsonOrNull<{ targetId?: string }>(task.work) ?? {};
  const target = await db('target')
    .where({ id: targetId ?? '' })
    .first<{ paces: unknown } | undefined>('paces');
  const allowed = paceAt(fromJsonOrNull<PaceWindow[]>(target?.paces) ?? [], now, zone);
  if (allowed === undefined) return null;
  const sharing = await db('task')
    .where({ state: 'running' })
    .whereIn(
      'type',
      typesThat((t) => t.paced),
    )
    .whereRaw("JSON_VALUE(work, '$.targetId') = ?", [targetId ?? ''])
    .count({ n: '*' })
    .first<{ n: number }>();
  return allowed / Math.max(1, Number(sharing?.n));
}
