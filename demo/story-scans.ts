import type { Answered } from '@lithodex/contract';
import type { StoryPeople } from './story-people';

const weekMs = 7 * 86_400_000;
/** Where people's data gathers: looked into as far back as there are points. */
const gathered = ['harbour-office', 'dredge-plans', 'customs-shed'];
/** Where the attackers were: looked into as far back as they may have been there. */
const attacked = ['charts-nas'];

/** After the attack points are looked into, also for what an intruder would have read; from then on those that are unusual. */
export async function scansHarbour(people: StoryPeople, now: number, quiet: () => Promise<void>): Promise<void> {
  const settings = { when: 'never', fromScore: 40, again: 'newest', scanner: '', sensitive: true } as const;
  await people.call('eva.vind', 'changeScanSettings', settings);
  const { workloads } = await people.get<Answered<'estate'>>('eva.vind', 'estate');
  const ids = (names: readonly string[]) => workloads.filter((w) => names.includes(w.name)).map((w) => w.id);
  await people.call('eva.vind', 'startScan', { workloads: ids(gathered), from: 0, to: null });
  await people.call('eva.vind', 'startScan', { workloads: ids(attacked), from: now - weekMs, to: null });
  await quiet();
  await people.call('eva.vind', 'changeScanSettings', { ...settings, when: 'unusual' });
}
