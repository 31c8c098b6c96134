import type { Answered } from '@lithodex/contract';
import type { StoryPeople } from './story-people';

/** Has the storage of gate-control keep its disks as they are, before something is tried there. */
export async function keepsOnStorage(people: StoryPeople): Promise<void> {
  const { workloads } = await people.get<Answered<'estate'>>('eva.vind', 'estate');
  const { id } = workloads.find((w) => w.name === 'gate-control')!;
  await people.call('eva.vind', 'takeSnapshot', id, { name: 'before the new barrier' });
}

/** Has the rosters brought back every night, before the day begins, into a folder of the mover. */
export async function provesReturns(people: StoryPeople, folder: string): Promise<void> {
  const { workloads } = await people.get<Answered<'estate'>>('eva.vind', 'estate');
  await people.call('eva.vind', 'addStanding', {
    name: 'Rosters come back',
    workloads: [workloads.find((w) => w.name === 'pilot-rosters')!.id],
    schedule: { every: 'day', at: '03:40' },
    destination: { to: 'folder', folder },
    reason: 'The harbour master wants to see that they do',
  });
}
