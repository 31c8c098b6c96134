import { describe, expect, it } from 'vitest';
import { show, words } from '../../test/stage';
import { MachineOwn, type OwnPlace } from './machine-own';

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
  machine: true,
  disks: [
    { label: 'system', size: 8 * 2 ** 30 },
    { label: 'data', size: 16 * 2 ** 30 },
  ],
};
const storages = ['fast', 'bulk', 'cellar'].map((name) => ({ value: name, label: name }));

describe('what is different for one of the machines that are restored', () => {
  it('is its name and where each of its disks goes, as all where nothing is said', async () => {
    const s = await show(MachineOwn, { item, storages, common: 'fast', own: undefined as OwnPlace | undefined });
    const said: OwnPlace[] = [];
    s.component.changed.subscribe((own) => said.push(own));
    const disks = () => s.all('span.small').map((d) => `${words(d.querySelector('.slot')!)}, ${words(d.querySelector('.mute')!)}`);
    expect(disks()).toEqual(['fast, 8.59 GB', 'fast, 17.2 GB']);
    await s.fill('storage of data of gate-control', 'bulk');
    expect(said.at(-1)).toEqual({ storages: { data: 'bulk' } });
    await s.set('own', said.at(-1));
    expect(disks()).toEqual(['fast, 8.59 GB', 'bulk, 17.2 GB']);
    await s.choose('input', ' gate-again ');
    expect(said.at(-1)).toEqual({ name: 'gate-again', storages: { data: 'bulk' } });
    await s.set('own', said.at(-1));
    await s.fill('storage of data of gate-control', 'fast, as all');
    expect(said.at(-1)).toEqual({ name: 'gate-again', storages: {} });
    await s.set('own', said.at(-1));
    await s.choose('input', '');
    expect(said.at(-1)).toEqual({ storages: {} });
  });
});
