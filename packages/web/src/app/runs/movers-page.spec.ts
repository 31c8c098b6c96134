import type { KnownMover } from '@lithodex/contract';
import { describe, expect, it } from 'vitest';
import { drawn, hour, now, open, words } from '../../test/stage';
import { mover } from '../../test/samples';
import { ApiFailure } from '../data/api';

const answers = (rows: KnownMover[]) => ({
  askingMovers: { rows: [] },
  estateValues: { workloads: [], tags: [], fields: { location: ['Harbour office', 'Lighthouse station'] } },
  listMovers: { rows },
  moverSamples: {
    rows: [
      { at: now - hour, ...mover('quay').latest },
      { at: now, ...mover('quay').latest },
    ],
  },
  changeMover: {},
  forgetMover: {},
  inviteMover: { code: 'lxj_a-code-that-works-once', until: now + hour },
});

describe('the movers', () => {
  it('are shown with what their hosts are busy with, over time where one asks', async () => {
    const s = await open('/runs/movers', {
      answers: answers([mover('quay'), mover('old', { present: false, lastSeen: now - 3 * hour, reads: ['tide-db'] })]),
    });
    const rows = s.all('tbody tr').map((r) => words(r));
    expect(rows[0]).toContain('quay at work; may capture, keep; in Harbour office');
    expect(rows[1]).toContain('may capture, keep; alone reads tide-db; in Harbour office');
    expect(rows[0]).toContain('Linux 6.1 8 processors, 16.0 GB 42 % 61 % 1.20 MB/s not known');
    expect(rows[1]).toContain('silent since 3 h ago');
    expect(s.all('lx-plot')).toEqual([]);
    drawn.length = 0;
    await s.click('quay');
    expect(s.url()).toBe('/runs/movers?mover=quay');
    expect(s.api.last('moverSamples')?.id).toBe('quay');
    await s.until(() => {
      expect(drawn).toHaveLength(3);
    });
    expect(drawn.map(([, traces]) => traces.map((t) => t.name))).toEqual([
      ['processors', 'memory'],
      ['received', 'sent'],
      ['read', 'written'],
    ]);
    // an hour of silence between the two samples is a hole
    expect((drawn[0]![1][0] as { y: unknown[] }).y).toEqual([0.42, null, 0.42]);
  });

  it('are drained, limited and forgotten by an administrator', async () => {
    const s = await open('/runs/movers', { answers: answers([mover('quay'), mover('old', { present: false })]) });
    await s.click('Drain for maintenance');
    expect(s.api.last('changeMover')).toMatchObject({ id: 'quay', body: { drained: true, tasks: 2 } });
    await s.fill('tasks at once of quay', '6 tasks');
    expect(s.api.last('changeMover')).toMatchObject({ id: 'quay', body: { drained: false, tasks: 6 } });
    await s.fill('place of quay', 'Lighthouse station');
    expect(s.api.last('changeMover')).toMatchObject({ id: 'quay', body: { place: 'Lighthouse station' } });
    s.api.answers.forgetMover = new ApiFailure('NOT_NOW', 'This mover is at work.', undefined);
    await s.click('Forget');
    expect(s.api.last('forgetMover')?.id).toBe('old');
    expect(s.one('[role=alert]').textContent).toContain('at work');
  });

  it('say when a drained one can be stopped', async () => {
    const s = await open('/runs/movers', { answers: answers([mover('quay', { drained: true })]) });
    expect(s.text()).toContain('quay ends what it has begun (1), then it can be stopped.');
    expect(s.button('Give it work again')).toBeTruthy();
  });

  it('come in by a code that is shown once', async () => {
    const s = await open('/runs/movers', { answers: answers([]) });
    expect(s.text()).toContain('No mover has come yet.');
    await s.click('Let a mover in');
    await s.click(s.all('lx-invite-mover input')[2]!);
    await s.click('Make a code');
    expect(s.api.last('inviteMover')?.body).toEqual({ duties: ['capture', 'keep'] });
    expect(s.one('pre').textContent).toContain('--join lxj_a-code-that-works-once');
  });

  it('are only read by others', async () => {
    const s = await open('/runs/movers', { answers: answers([mover('quay')]), role: 'auditor' });
    expect(s.all('tbody button.act')).toEqual([]);
  });

  it('shows who asks to come in with the number to compare, and lets it in for what was ticked', async () => {
    const asking = { id: 'a'.repeat(32), name: 'quay-2', number: '482 193', address: '10.0.0.7', askedAt: now - hour };
    const all = { ...answers([mover('quay')]), askingMovers: { rows: [asking] }, admitMover: {}, refuseMover: {} };
    const s = await open('/runs/movers', { answers: all });
    expect(s.text()).toContain('quay-2 wants to become a mover');
    expect(s.text()).toContain('482 193');
    (s.all('lx-asking-movers input[type=checkbox]')[1] as HTMLInputElement).click();
    await s.click('The numbers are the same: let it in');
    expect(s.api.last('admitMover')).toMatchObject({ id: asking.id, body: { duties: ['capture', 'keep'] } });
    s.api.answers.refuseMover = new ApiFailure('NOT_FOUND', 'There is no such thing here (any more).', undefined);
    await s.click('Not this one');
    expect(s.one('[role=alert]').textContent).toContain('no such thing');
  });
});
