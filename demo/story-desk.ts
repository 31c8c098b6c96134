import fs from 'node:fs';
import type { Answered } from '@lithodex/contract';
import type { RunningServer } from '@lithodex/server';
import type { StoryPeople } from './story-people';

/** The clerk may help the people of two groups of the office as well. */
export async function helpsAtTheDesk(db: RunningServer['deps']['db']): Promise<void> {
  const clerk = await db('person').where({ name: 'ilse.holm' }).first<{ id: number; remit: unknown }>('id', 'remit');
  const before = (typeof clerk.remit === 'string' ? JSON.parse(clerk.remit) : clerk.remit) as number[];
  const helped = await db('tag').whereIn('name', ['dredging', 'pilots']).select<{ workload_id: number }[]>('workload_id');
  const remit = JSON.stringify([...new Set([...before, ...helped.map((h) => h.workload_id)])]);
  await db('person').where({ id: clerk.id }).update({ remit });
}

/** Letters of the office are lost and brought back by the clerk. `folder`: where they lie. */
export async function clerkRestores(people: StoryPeople, folder: string, quiet: () => Promise<void>): Promise<void> {
  const { workloads } = await people.get<Answered<'estate'>>('ilse.holm', 'estate');
  const office = workloads.find((w) => w.name === 'harbour-office')!;
  const point = office.newestPoint!.id;
  const { rows } = await people.get<Answered<'tree'>>('ilse.holm', 'tree', point, `?path=${encodeURIComponent('letters/berth-07')}`);
  const letters = rows.slice(3, 9);
  for (const letter of letters) fs.rmSync(`${folder}/${letter.path}`);
  await people.call('ilse.holm', 'startRestore', {
    name: 'Letters of berth 7',
    picks: letters.map((l) => ({ pointId: point, path: l.path })),
    destination: { to: 'original' },
    reason: 'Deleted by mistake while sorting, asked for by the berth office',
  });
  await quiet();
}
