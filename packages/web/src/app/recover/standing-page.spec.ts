import { describe, expect, it } from 'vitest';
import type { StandingEvidence, StandingRow } from '@lithodex/contract';
import { hour, now, open, words } from '../../test/stage';
import { repeatable } from './repeat-form';

const shown: StandingEvidence = {
  runId: 70,
  at: now - 3 * hour,
  state: 'done',
  items: 12,
  bytes: 4e6,
  took: 9000,
  moments: [now - 8 * hour],
  says: '12 files of 4.00 MB read again, each as it was stored; taken away: 2026-11-29 050000',
};
const row: StandingRow = {
  id: 5,
  body: {
    name: 'Every morning',
    workloads: [3],
    schedule: { every: 'week', days: [1, 3], at: '05:00' },
    destination: { to: 'folder', folder: '/srv/proof' },
    start: false,
    reason: 'to know that it comes back',
  },
  workloads: [{ id: 3, name: 'quay-1' }],
  place: '/srv/proof, on the mover',
  person: 'eva.vind',
  next: now + 20 * hour,
  trouble: '',
  last: shown,
};

describe('restores that are repeated', () => {
  it('are listed with when, where to and what the last time has shown', async () => {
    const s = await open('/recover/standing', { answers: { listStanding: { rows: [row] } } });
    expect(words(s.one('tbody tr'))).toContain('Every morning');
    expect(s.text()).toContain('Monday and Wednesday at 05:00');
    expect(s.text()).toContain('each as it was stored');
  });

  it('say that they wait for a newer point, or for minutes past the hour', async () => {
    const waits: StandingRow = {
      ...row,
      id: 6,
      body: { ...row.body, name: 'At the lighthouse', schedule: { every: 'point' } },
      next: null,
    };
    const hourly: StandingRow = { ...row, id: 7, body: { ...row.body, name: 'Hourly', schedule: { every: 'hour', past: [0, 40] } } };
    const s = await open('/recover/standing', { answers: { listStanding: { rows: [waits, hourly] } } });
    expect(words(s.all('tbody tr')[0]!)).toMatch(/whenever there is a newer point.*with the next point/);
    expect(words(s.all('tbody tr')[1]!)).toContain('every hour at 0 and 40 past');
  });

  it('show the evidence of every time, by its address', async () => {
    const s = await open('/recover/standing', {
      answers: {
        listStanding: { rows: [row] },
        standingEvidence: { rows: [shown, { ...shown, runId: 69, state: 'failed', says: 'No room.' }] },
      },
    });
    await s.click(s.one('[aria-label="Evidence of Every morning"]'));
    expect(s.url()).toBe('/recover/standing?shown=5');
    expect(s.all('.proof tbody tr').map(words)[1]).toContain('No room.');
  });

  it('are done at once, and ended after it was said what that means', async () => {
    const s = await open('/recover/standing', {
      answers: { listStanding: { rows: [row] }, startStanding: { runId: 71 }, removeStanding: {} },
    });
    await s.click(s.one('[aria-label="End Every morning"]'));
    expect(s.text()).toContain('stays where it is');
    expect(s.api.last('removeStanding')).toBeUndefined();
    await s.click('End it');
    expect(s.api.last('removeStanding')).toMatchObject({ id: 5 });
    await s.click(s.one('[aria-label="Do it now: Every morning"]'));
    expect(s.url()).toBe('/runs/71');
  });

  it('say why the last time could not begin, and are nobody else’s to end', async () => {
    const s = await open('/recover/standing', {
      role: 'auditor',
      answers: { listStanding: { rows: [{ ...row, trouble: 'There is no good point.' }] } },
    });
    expect(s.one('td .f').textContent).toBe('There is no good point.');
    expect(s.all('button').map(words)).not.toContain('Do it now');
  });

  it('go only where the time before can make way', () => {
    expect(repeatable({ to: 'folder', folder: '/srv/proof', keepPath: true })).toEqual({ to: 'folder', folder: '/srv/proof' });
    expect(repeatable({ to: 'original' })).toBeUndefined();
    const place = { to: 'platform' as const, platformId: 2, host: 'rock-1', folder: '/Proof', storage: 'cellar', networks: null };
    expect(repeatable({ ...place, suffix: '' })).toBeUndefined();
    expect(repeatable({ ...place, suffix: '-proof' })).toMatchObject({ to: 'platform', networks: [] });
    expect(repeatable({ to: 'server', systemId: 4, databases: [] })).toBeUndefined();
  });
});
