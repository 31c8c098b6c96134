import { describe, expect, it } from 'vitest';
import type { RunningRow } from '@lithodex/contract';
import { uuid } from '../../test/samples';
import { hour, now, open, words } from '../../test/stage';

const GiB = 2 ** 30;
const row = (more: Partial<RunningRow> = {}, state: Partial<NonNullable<RunningRow['now']>> = {}): RunningRow => ({
  runId: 7,
  taskId: uuid(7),
  workload: { id: 3, name: 'gate-01' },
  pointId: uuid(1),
  moment: now - hour,
  name: 'gate-01-again',
  platform: { id: 2, name: 'Harbour platform' },
  host: 'mole-1',
  networks: [],
  person: 'eva.vind',
  reason: 'the host burnt',
  since: now - 2 * hour,
  mover: 'mover-1',
  wish: { to: 'run' },
  now: {
    state: 'running',
    machine: 'm-1',
    disks: [{ label: 'system', size: 40 * GiB, storage: '', copied: 0, toCopy: GiB }],
    overlay: { used: GiB, most: 20 * GiB },
    problem: '',
    ...state,
  },
  ...more,
});
const places = {
  clusters: [],
  folders: [],
  storages: [
    { name: 'fast', capacity: 100 * GiB, used: 0, hosts: ['mole-1'] },
    { name: 'cellar', capacity: 100 * GiB, used: 0, hosts: ['rock-1'] },
  ],
};
const shown = (rows: RunningRow[], more = {}) =>
  open('/recover/running', { answers: { listRunning: { rows }, platformPlaces: places, steerRunning: {}, ...more } });

describe('machines that run from the store', () => {
  it('are listed with where each disk lives, their age, and the room for what they write', async () => {
    const s = await shown([row()]);
    expect(s.text()).toContain('runs from the store, since 2 h');
    expect(words(s.one('tbody tr'))).toBe('system 42.9 GB in the store; what it writes, on the mover');
    expect(s.text()).toContain('What it wrote: 1.07 GB of 21.5 GB there is room for');
    expect(s.text()).toContain('gate-01 as it was');
  });

  it('are copied to a storage that the host sees, at a pace, while they go on', async () => {
    const s = await shown([row()]);
    await s.click('Copy');
    expect(s.api.last('steerRunning')).toMatchObject({ id: uuid(7), body: { to: 'copy', storage: 'fast', pace: null } });
  });

  it('leave the store while they run, or with a short stop', async () => {
    const disks = [{ label: 'system', size: 40 * GiB, storage: 'fast', copied: GiB / 2, toCopy: GiB }];
    const s = await shown([row({ wish: { to: 'copy', storage: 'fast', pace: 1e7 } }, { state: 'copying', disks })]);
    expect(s.text()).toContain('in the store, 50 % on fast too');
    await s.click('Cut over');
    expect(s.api.last('steerRunning')).toMatchObject({ body: { to: 'cutOver', storage: 'fast', pace: 1e7, stopped: false } });
  });

  it('are dropped only after it was said what is lost', async () => {
    const s = await shown([row()]);
    await s.click('Drop it …');
    expect(s.api.last('steerRunning')).toBeUndefined();
    expect(s.text()).toContain('What it wrote in 2 h, 1.07 GB, is lost');
    await s.click('Drop it');
    expect(s.api.last('steerRunning')).toMatchObject({ body: { to: 'drop' } });
  });

  it('say what stands in the way, and when the room is nearly full', async () => {
    const s = await shown([
      row(
        { wish: { to: 'cutOver', storage: 'fast', pace: null, stopped: false } },
        { problem: 'The machine is running.', overlay: { used: 17, most: 20 } },
      ),
    ]);
    expect(s.text()).toContain('The machine is running.');
    expect(s.text()).toContain('nearly full');
    expect(s.all('button').map(words)).toContain('Cut over');
  });

  it('are nobody else’s to steer', async () => {
    const s = await open('/recover/running', { role: 'auditor', answers: { listRunning: { rows: [row()] } } });
    expect(s.all('button').map(words)).not.toContain('Copy');
    expect(s.api.last('platformPlaces')).toBeUndefined();
  });

  it('say how to come by one where there is none', async () => {
    expect((await shown([])).text()).toContain('No machine runs from the store.');
  });
});
