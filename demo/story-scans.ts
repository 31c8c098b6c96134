import type { Answered } from '@lithodex/contract';
import type { StoryPeople } from './story-people';

/** What is looked into at the end of the eight weeks: where people's data gathers, and where the attackers were. */
const scanned = ['charts-nas', 'harbour-office', 'dredge-plans', 'customs-shed'];

/** After the attack all points are looked into, also for what an intruder would have read; from then on those that are unusual. */
export async function scansHarbour(people: StoryPeople, quiet: () => Promise<void>): Promise<void> {
  const settings = { when: 'never', fromScore: 40, again: 'newest', scanner: '', sensitive: true } as const;
  await people.call('eva.vind', 'changeScanSettings', settings);
  const { workloads } = await people.get<Answered<'estate'>>('eva.vind', 'estate');
  const ids = workloads.filter((w) => scanned.includes(w.name)).map((w) => w.id);
  await people.call('eva.vind', 'startScan', { workloads: ids, from: 0, to: null });
  await quiet();
  await people.call('eva.vind', 'changeScanSettings', { ...settings, when: 'unusual' });
}
