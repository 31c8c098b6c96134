import { TestBed } from '@angular/core/testing';
import { describe, expect, it } from 'vitest';
import { show, words } from '../../test/stage';
import { MachineOwn } from './machine-own';
import { NewMachines } from './new-machines';

const item = {
  pick: { pointId: 'p1', path: '' },
  name: 'gate-control',
  kind: 'folder',
  workload: 'gate-control',
  moment: 5,
  goesTo: '',
  size: 9,
  items: 1,
  suspect: false,
  workloadId: 3,
  workloadKind: 'machine' as const,
  disks: [
    { label: 'system', size: 8 * 2 ** 30 },
    { label: 'data', size: 16 * 2 ** 30 },
  ],
};
const storages = ['fast', 'bulk', 'cellar'].map((name) => ({ value: name, label: name }));

describe('what is different for one of the machines that are restored', () => {
  it('is its name and where each of its disks goes, as all where nothing is said', async () => {
    const s = await show(MachineOwn, { item });
    const machines = TestBed.inject(NewMachines);
    machines.storages.set(storages);
    machines.place.set({ platformId: 1, host: 'h1', folder: '/', storage: 'fast', networks: null, suffix: '' });
    await s.settle();
    const own = () => machines.owns().get('p1');
    const disks = () => s.all('span.small').map((d) => `${words(d.querySelector('.slot')!)}, ${words(d.querySelector('.mute')!)}`);
    expect(disks()).toEqual(['fast, 8.59 GB', 'fast, 17.2 GB']);
    await s.fill('storage of data of gate-control', 'bulk');
    expect(own()).toEqual({ storages: { data: 'bulk' } });
    expect(disks()).toEqual(['fast, 8.59 GB', 'bulk, 17.2 GB']);
    await s.choose('input', ' gate-again ');
    expect(own()).toEqual({ name: 'gate-again', storages: { data: 'bulk' } });
    await s.fill('storage of data of gate-control', 'fast, as all');
    expect(own()).toEqual({ name: 'gate-again', storages: {} });
    await s.choose('input', '');
    expect(own()).toEqual({ storages: {} });
    expect(machines.destination()).toMatchObject({ to: 'platform', exceptions: [{ pointId: 'p1', storages: {} }] });
  });
});
