import { TestBed } from '@angular/core/testing';
import { describe, expect, it } from 'vitest';
import { estate, machineFacts, workload } from '../../test/samples';
import { show, words } from '../../test/stage';
import { CloudOwn } from './cloud-own';
import { CloudPlace } from './cloud-place';
import { NewInstances } from './new-instances';
import { OverPlace } from './over-place';

const quota = { instances: 9, processors: 9, bytes: 1e12 };
const offers = {
  currency: 'EUR',
  addressPerMonth: 3,
  sizes: [
    { name: 'lugger', processors: 4, memory: 8192, perHour: 0.06 },
    { name: 'skiff', processors: 1, memory: 1024, perHour: 0.01 },
  ],
  classes: [
    { name: 'quick', perGBMonth: 0.1, regions: ['north'] },
    { name: 'usual', perGBMonth: 0.05, regions: ['north', 'south'] },
  ],
  regions: [
    {
      name: 'north',
      place: 'North fjord',
      networks: [
        { name: 'shore', isolated: false },
        { name: 'islet', isolated: true },
      ],
      groups: ['inner'],
      quota,
      used: quota,
    },
    { name: 'south', place: '', networks: [], groups: [], quota, used: quota },
  ],
};
const platform = (id: number, name: string, family: string) => ({
  ...{ id, name, family, endpoint: 'http://sky', by: 'password', account: 'harbour', way: 'network' },
  ...{ passwordEnds: null, readAt: 5, trouble: null, machines: 0, readers: null },
});
const answers = {
  listPlatforms: { rows: [platform(3, 'Harbour platform', 'hosts'), platform(8, 'Skyfjord', 'cloud')] },
  platformPlaces: { clusters: [], storages: [], folders: [], cloud: offers },
};

describe('a cloud in the sentence of a restore', () => {
  it('is complete with a region, a class and a network; without a public address and in the cheapest size unless one says otherwise', async () => {
    const sent: unknown[] = [];
    const s = await show(CloudPlace, { changed: (d: unknown) => sent.push(d) }, { answers });
    expect(s.text()).toContain('Skyfjord');
    expect(s.api.last('platformPlaces')).toMatchObject({ id: 8 });
    expect(sent.at(-1)).toBeNull();
    await s.fill('region', 'north');
    await s.fill('class', 'usual');
    expect(sent.at(-1)).toBeNull();
    await s.fill('network', 'the network shore');
    const place = { to: 'cloud', platformId: 8, region: 'north', class: 'usual', network: 'shore', exceptions: [] };
    expect(sent.at(-1)).toEqual({ ...place, size: null, groups: [], publicAddress: false, suffix: '', ahead: false, hours: null });
    await s.fill('size', 'lugger');
    await s.fill('group', 'inner');
    await s.fill('address', 'a public address');
    await s.fill('stay', 'it is removed after 4 h');
    expect(sent.at(-1)).toMatchObject({ size: 'lugger', groups: ['inner'], publicAddress: true, hours: 4 });
    await s.fill('region', 'south');
    expect(sent.at(-1)).toBeNull();
  });

  it('says what each size costs a month, the cheapest first, and that an isolated network leads nowhere', async () => {
    const s = await show(CloudPlace, { changed: () => undefined }, { answers });
    await s.fill('region', 'north');
    await s.click(s.one('[aria-label^="size:"]'));
    const sizes = words(menu());
    expect(sizes.indexOf('skiff')).toBeLessThan(sizes.indexOf('lugger'));
    expect(sizes).toContain('1 processor, 1024 MB of memory, EUR 7.30 a month');
  });

  it('asks for less where only the disks are sent ahead', async () => {
    const sent: unknown[] = [];
    const s = await show(CloudPlace, { changed: (d: unknown) => sent.push(d) }, { answers });
    await s.fill('what is sent', 'only the disks, ahead of it');
    expect(s.all('[aria-label^="size:"]')).toEqual([]);
    await s.fill('region', 'north');
    await s.fill('class', 'usual');
    await s.fill('network', 'the isolated network islet');
    expect(sent.at(-1)).toMatchObject({ ahead: true, network: 'islet' });
  });
});

/** The menu that is open. */
const menu = () => [...document.querySelectorAll('.menu.show')].at(-1)!;

const item = {
  ...{ pick: { pointId: 'p1', path: '' }, name: 'gate-control', kind: 'folder', workload: 'gate-control', moment: 5, goesTo: '' },
  ...{ size: 9, items: 1, suspect: false, workloadId: 3, workloadKind: 'machine' as const },
  disks: [
    { label: 'system', size: 8e9 },
    { label: 'data', size: 16e9 },
  ],
};

describe('what is different for one of the machines that go into a cloud', () => {
  it('is its name, its size, and the disks that stay behind', async () => {
    const s = await show(CloudOwn, { item });
    const instances = TestBed.inject(NewInstances);
    instances.offers.set(offers);
    instances.place.set({
      ...{ platformId: 8, region: 'north', size: null, network: 'shore', groups: [], publicAddress: false },
      ...{ class: 'usual', suffix: '', ahead: false, hours: null },
    });
    await s.settle();
    const own = () => instances.owns().get('p1');
    await s.choose('input.field', ' gate-again ');
    await s.fill('size of gate-control', 'skiff');
    await s.click(s.all('input[type=checkbox]')[1]!);
    expect(own()).toEqual({ name: 'gate-again', size: 'skiff', leaveOut: ['data'] });
    await s.click(s.all('input[type=checkbox]')[1]!);
    await s.choose('input.field', '');
    expect(own()).toEqual({ size: 'skiff' });
    expect(instances.destination()).toMatchObject({ to: 'cloud', exceptions: [{ pointId: 'p1', size: 'skiff' }] });
  });
});

describe('another machine in the sentence of a restore', () => {
  it('is one of a platform of hosts that is there and no template', async () => {
    const sent: unknown[] = [];
    const sky = { ...machineFacts, cloud: { size: 'skiff', address: null, groups: [] } };
    const machines = estate([
      workload(1, { name: 'gate-01', kind: 'machine', machine: machineFacts }),
      workload(2, { name: 'gate-sky', kind: 'machine', machine: sky }),
      workload(3, { name: 'base', kind: 'machine', machine: { ...machineFacts, template: true } }),
      workload(4, { name: 'charts' }),
    ]);
    const s = await show(OverPlace, { changed: (d: unknown) => sent.push(d) }, { answers: { estate: machines } });
    expect(sent.at(-1)).toBeNull();
    await s.click(s.one('[aria-label^="machine:"]'));
    expect(words(menu())).toContain('gate-01');
    expect(words(menu())).not.toContain('gate-sky');
    await s.click(s.one('[aria-label^="machine:"]'));
    await s.fill('machine', 'gate-01');
    expect(sent.at(-1)).toEqual({ to: 'over', workloadId: 1 });
  });
});
