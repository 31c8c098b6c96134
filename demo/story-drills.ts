import type { Answered, BodyInput } from '@lithodex/contract';
import type { StoryPeople } from './story-people';

type Plan = BodyInput<'changeDrillPlan'>;
const minutes = (n: number) => n * 60;

/** What is looked at in drills of those that matter most. */
const plans: Readonly<Record<string, Plan>> = {
  'berths-a': {
    checks: [
      { check: 'query', database: 'berth_bookings', sql: 'SELECT COUNT(*) FROM booking', is: 'least', value: '10' },
      { check: 'query', database: 'tariffs', sql: 'SELECT COUNT(*) FROM tariff', is: 'equal', value: '4812' },
    ],
    objective: minutes(30),
    weight: 3,
  },
  'pilot-db': { checks: [{ check: 'service', name: 'mariadbd' }], objective: minutes(15), weight: 2 },
  'harbour-office': { checks: [{ check: 'count', path: '', least: 100 }], objective: minutes(60), weight: 2 },
  'customs-shed': { checks: [], objective: minutes(120), weight: 1 },
  'tide-board': { checks: [], objective: minutes(20), weight: 1 },
};

/** Restores are tried: those that matter most by hand, the others in turn from now on. */
export async function drillsHarbour(people: StoryPeople, quiet: () => Promise<void>): Promise<void> {
  const { workloads } = await people.get<Answered<'estate'>>('eva.vind', 'estate');
  const known = workloads.filter((w) => w.name in plans);
  for (const { id, name } of known) await people.call('eva.vind', 'changeDrillPlan', id, plans[name]!);
  await people.call('ole.brygge', 'startDrill', { workloads: known.map((w) => w.id) });
  await quiet();
  await people.call('eva.vind', 'changeDrillSettings', { on: true, at: '03:30', nightly: 2, within: 90 });
}
