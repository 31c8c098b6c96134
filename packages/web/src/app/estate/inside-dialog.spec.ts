import { describe, expect, it } from 'vitest';
import { estate, machineFacts, workload } from '../../test/samples';
import { open, page, words } from '../../test/stage';

const machines = [
  workload(1, { name: 'lamp', kind: 'machine', machine: { ...machineFacts, helper: false, running: true } }),
  workload(2, { name: 'horn', kind: 'machine', machine: { ...machineFacts, helper: false, running: true }, inside: 'backup' }),
  workload(3),
];

describe('the account inside machines', () => {
  it('is given to those that are ticked, and each says whether it is let in', async () => {
    const rows = [
      { workload: { id: 1, name: 'lamp' }, ok: true, message: 'backup is let in to Linux inside.' },
      { workload: { id: 2, name: 'horn' }, ok: false, message: 'The machine is off: horn is off.' },
    ];
    const s = await open('/estate', {
      answers: { estate: estate(machines), listPolicies: page([]), listPlatforms: { rows: [] }, setInside: { rows } },
    });
    for (const name of ['lamp', 'horn', 'quay-3']) await s.click(s.one(`[aria-label="Tick ${name}"]`));
    await s.until(() => {
      expect(words(s.one('.chosen'))).toContain('1 without a helper or account inside');
    });
    await s.click('Account inside');
    expect(words(s.one('[role=dialog] h1'))).toBe('Account inside 2 machines');
    expect(s.button('Try and keep').disabled).toBe(true);
    await s.type('[name=account]', 'backup');
    await s.type('[name=password]', 'a brass bell');
    await s.click('Try and keep');
    expect(s.api.last('setInside')?.body).toEqual({ workloads: [1, 2], account: { name: 'backup', password: 'a brass bell' } });
    await s.until(() => {
      expect(words(s.one('[role=dialog]'))).toContain('horn The machine is off: horn is off. Not kept.');
    });
    expect(s.one<HTMLInputElement>('[name=password]').value).toBe('');
  });

  it('is not asked for by who may not give it', async () => {
    const s = await open('/estate', {
      role: 'operator',
      answers: { estate: estate(machines), listPolicies: page([]), listPlatforms: { rows: [] } },
    });
    await s.click(s.one('[aria-label="Tick lamp"]'));
    expect(words(s.one('.chosen'))).not.toContain('Account inside');
  });
});
