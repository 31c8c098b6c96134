import type { RunningServer } from '@lithodex/server';

/** The clerk may help the people of two groups of the office as well. */
export async function helpsAtTheDesk(db: RunningServer['deps']['db']): Promise<void> {
  const clerk = await db('person').where({ name: 'ilse.holm' }).first<{ id: number; remit: unknown }>('id', 'remit');
  const before = (typeof clerk.remit === 'string' ? JSON.parse(clerk.remit) : clerk.remit) as number[];
  const helped = await db('tag').whereIn('name', ['dredging', 'pilots']).select<{ workload_id: number }[]>('workload_id');
  const remit = JSON.stringify([...new Set([...before, ...helped.map((h) => h.workload_id)])]);
  await db('person').where({ id: clerk.id }).update({ remit });
}
