import type { Answered } from '@lithodex/contract';
import { cloudRights, type CloudDescription } from '@lithodex/standins';
import type { StoryPeople } from './story-people';

/** Where the cloud is, and what opens it. */
export interface CloudAccess {
  readonly endpoint: string;
  readonly client: string;
  readonly secret: string;
}

const TB = 1e12;
const quota = { instances: 12, processors: 48, bytes: 20 * TB };

const skyfjord: Omit<CloudDescription, 'clients'> = {
  currency: 'EUR',
  addressPerMonth: 3.2,
  regions: [
    {
      name: 'fjord-north',
      place: 'North fjord',
      networks: [
        { name: 'shore', isolated: false },
        { name: 'islet', isolated: true },
      ],
      groups: ['inner'],
      quota,
    },
    {
      name: 'fjord-south',
      place: 'South fjord',
      networks: [
        { name: 'beach', isolated: false },
        { name: 'sandbank', isolated: true },
      ],
      groups: [],
      quota,
    },
  ],
  sizes: [
    { name: 'skiff', processors: 1, memory: 1024, perHour: 0.008 },
    { name: 'cutter', processors: 2, memory: 4096, perHour: 0.031 },
    { name: 'lugger', processors: 4, memory: 8192, perHour: 0.062 },
    { name: 'barque', processors: 8, memory: 32768, perHour: 0.21 },
  ],
  classes: [
    { name: 'usual', perGBMonth: 0.045, regions: ['fjord-north', 'fjord-south'] },
    { name: 'quick', perGBMonth: 0.11, regions: ['fjord-north'] },
  ],
};

/** Who may not wait for the machine room tries what it takes to work from a cloud: one machine goes there, and the disks of another are sent ahead every night. */
export async function triesTheCloud(
  people: StoryPeople,
  { endpoint, client, secret }: CloudAccess,
  quiet: () => Promise<void>,
): Promise<void> {
  const clients = [{ id: client, secret, secretEnds: null, rights: cloudRights }];
  const described = await fetch(`${endpoint}/people/describe`, { method: 'POST', body: JSON.stringify({ ...skyfjord, clients }) });
  if (!described.ok) throw new Error(`the cloud: ${await described.text()}`);
  const { id: platformId } = await people.call('eva.vind', 'addPlatform', {
    name: 'Skyfjord',
    endpoint,
    opener: { by: 'password', account: client, password: secret },
    family: 'cloud',
  });
  const { workloads } = await people.get<Answered<'estate'>>('eva.vind', 'estate');
  const idOf = (name: string) => workloads.find((w) => w.name === name)!.id;
  const { pointList } = await people.get<Answered<'workload'>>('eva.vind', 'workload', idOf('customs-desk-02'));
  const place = { to: 'cloud' as const, platformId, region: 'fjord-north', network: 'shore', class: 'usual' };
  await people.call('eva.vind', 'startRestore', {
    name: 'customs-desk-02 in Skyfjord',
    picks: [{ pointId: pointList.at(-1)!.id, path: '' }],
    destination: { ...place, groups: ['customs'], suffix: '-sky' },
    leavesPlace: true,
    start: true,
    reason: 'The customs hall is rebuilt: one desk works from elsewhere until spring',
  });
  await people.call('eva.vind', 'addStanding', {
    name: 'Berth planner, sent ahead',
    workloads: [idOf('berth-planner')],
    schedule: { every: 'day', at: '05:10' },
    destination: { ...place, ahead: true },
    reason: 'So that it can work from there within minutes',
  });
  await quiet();
}
