import { describe, expect, it } from 'vitest';
import { now, open, words } from '../../test/stage';

const state = {
  protected: 40,
  all: 42,
  oldestNewest: { moment: now - 90_000_000, workload: 'tides-02', late: true },
  storedBytes: 4e9,
  matters: { fault: 1, warning: 2, absent: 4 },
  worst: [{ level: 'fault', title: 'charts-nas was encrypted', since: now - 3_600_000 }],
  targets: [{ name: 'rock-disk', used: 4e9, free: 2e9, full: now + 86_400_000 }],
};
const rows = [
  { id: null, name: 'this one', url: '', authority: null, state, at: now, trouble: '', clockAhead: 0 },
  {
    id: 3,
    name: 'Lighthouse',
    url: 'https://light.example',
    authority: null,
    state,
    at: now - 7_200_000,
    trouble: 'It does not answer.',
    clockAhead: 0,
  },
];

describe('several installations', () => {
  it('stand in one list, with what a silent one said last, and take another one', async () => {
    const s = await open('/watch/installations', { answers: { overview: { rows }, addInstallation: { id: 4 }, removeInstallation: {} } });
    const told = words(s.one('tbody'));
    expect(told).toContain('40 of 42');
    expect(told).toContain('charts-nas was encrypted');
    expect(told).toContain('and 6 more');
    expect(told).toContain('rock-disk: 2.00 GB free');
    expect(told).toContain('It does not answer. What follows is of');
    await s.click('Look at another one');
    await s.type('input[name=name]', 'Pilot house');
    await s.type('input[name=url]', 'https://pilots.example');
    await s.type('input[name=token]', 'gulls');
    await s.click('Look at it');
    expect(s.api.last('addInstallation')?.body).toEqual({
      name: 'Pilot house',
      url: 'https://pilots.example',
      token: 'gulls',
      authority: null,
    });
    await s.click('Forget …');
    await s.click('Forget it');
    expect(s.api.last('removeInstallation')).toMatchObject({ id: 3 });
  });
});
