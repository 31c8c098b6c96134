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

/** What has to be back before what; `after`: places of steps before it. */
const sequences: readonly {
  readonly name: string;
  readonly objective: number;
  readonly steps: readonly [name: string, after: number[]][];
}[] = [
  {
    name: 'Pilots and tides',
    objective: 20,
    steps: [
      ['pilot-db', []],
      ['tide-board', [0]],
      ['customs-shed', []],
    ],
  },
  {
    name: 'Berths and the office',
    objective: 60,
    steps: [
      ['berths-a', []],
      ['harbour-office', []],
      ['tide-board', [0]],
    ],
  },
];

/** Restores are tried: those that matter most in their order, the others in turn from now on. `goOn` begins the steps that are due. */
export async function drillsHarbour(people: StoryPeople, quiet: () => Promise<void>, goOn: () => Promise<void>): Promise<void> {
  const { workloads } = await people.get<Answered<'estate'>>('eva.vind', 'estate');
  const ids = new Map(workloads.map((w) => [w.name, w.id]));
  for (const [name, plan] of Object.entries(plans)) await people.call('eva.vind', 'changeDrillPlan', ids.get(name)!, plan);
  const tried: number[] = [];
  for (const { name, objective, steps } of sequences) {
    const body = {
      name,
      objective,
      steps: steps.map(([of, after]) => ({ restore: { by: 'workload' as const, id: ids.get(of)! }, after, wait: 0 })),
    };
    const { id } = await people.call('eva.vind', 'addSequence', body);
    tried.push((await people.call('ole.brygge', 'trySequence', id, undefined)).id);
  }
  const goesOn = async () => {
    const { rows } = await people.get<Answered<'listSequenceRuns'>>('eva.vind', 'listSequenceRuns');
    return rows.some((r) => tried.includes(r.id) && r.state === 'running');
  };
  while (await goesOn()) {
    await quiet();
    await goOn();
  }
  await people.call('eva.vind', 'changeDrillSettings', { on: true, at: '03:30', nightly: 2, within: 90 });
}
