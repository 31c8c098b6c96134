import type { RunState } from '@lithodex/contract';
import { describe, expect, it } from 'vitest';
import { day, now, open, words, type Answers } from '../../test/stage';

const run = (policyId: number, more = {}) => ({
  policyId,
  name: `policy ${policyId}`,
  first: now,
  count: 1,
  workloads: 2,
  follows: '',
  continuous: false,
  was: null as { state: RunState; runId: number } | null,
  ...more,
});
const days = (from: string, count: number, runs: (n: number) => ReturnType<typeof run>[] = () => []) =>
  Array.from({ length: count }, (_, n) => ({
    date: new Date(Date.parse(from) + n * day).toISOString().slice(0, 10),
    closed: n === 2 ? ['policy 9'] : [],
    runs: runs(n),
  }));
const fit = {
  from: now,
  to: now + day,
  movers: 2,
  tasks: 7,
  guessed: 1,
  ends: now + day / 4,
  missed: 2,
  policies: [
    { id: 1, name: 'policy 1', tasks: 6, starts: now + day / 8, ends: now + day / 4, missed: 0 },
    { id: 2, name: 'policy 2', tasks: 1, starts: now + day / 8, ends: null, missed: 1 },
  ],
  changes: [
    { text: 'One mover more', ends: now + day / 8, missed: 0 },
    { text: 'policy 1 an hour earlier', ends: now + day / 6, missed: 2 },
  ],
  before: { from: now - day, foretold: now - day / 2, ended: now - day / 2 + 60_000, tasks: 6 },
};
const stage = (url: string, answers: Answers = {}, role: 'administrator' | 'auditor' = 'administrator') =>
  open(url, {
    role,
    answers: {
      runCalendar: {
        zone: 'UTC',
        days: days('2026-12-28T00:00:00Z', 42, (n) => (n === 1 ? [1, 2, 3, 4, 5].map((p) => run(p, { count: p === 5 ? 24 : 1 })) : [])),
      },
      nightFit: fit,
      ...answers,
    },
  });

describe('the calendar', () => {
  it('shows a month of runs, how many more there are, and closed days', async () => {
    const s = await stage('/policies/calendar?day=2027-01-15');
    await s.until(() => {
      expect(s.all('.day')).toHaveLength(42);
    });
    expect(words(s.one('h1'))).toBe('January 2027');
    const query = s.api.last('runCalendar')?.query as { from: number; to: number };
    expect(new Date(query.from).toISOString()).toBe('2026-12-28T00:00:00.000Z');
    expect(new Date(query.to).toISOString().slice(0, 10)).toBe('2027-01-31');
    expect(words(s.all('.day')[1]!)).toContain('29 and 1 more 09:00 policy 1');
    expect(words(s.all('.day')[2]!)).toContain('closed: policy 9');
    await s.click('and 1 more');
    await s.until(() => {
      expect(s.url()).toBe('/policies/calendar?day=2026-12-29&view=week');
    });
    expect(words(s.one('h1'))).toBe('Week 53, December 2026');
    expect(s.text()).toContain('24 × policy 5');
  });

  it('shows what was as it went, and leads to it', async () => {
    const was = (state: RunState, runId: number) => ({ was: { state, runId } });
    const runCalendar = {
      zone: 'UTC',
      days: days('2027-01-11T00:00:00Z', 7, (n) =>
        n === 0 ? [run(1, was('done', 41)), run(2, was('failed', 42)), run(3, { ...was('partsMissing', 45), count: 3 })] : [run(1)],
      ),
    };
    const s = await stage('/policies/calendar?view=week&day=2027-01-15', { runCalendar });
    await s.until(() => {
      expect(s.all('.day')).toHaveLength(7);
    });
    const [quiet, failed, several] = [...s.all('.day')[0]!.querySelectorAll('a')];
    expect(quiet!.querySelector('lx-mark')).toBeNull();
    expect(words(quiet!)).toMatch(/policy 1 2 workloads$/);
    expect(failed!.querySelector('[aria-label="failed"]')).not.toBeNull();
    expect(words(failed!)).toContain('2 workloads, failed');
    expect([quiet, failed, several, s.all('.day')[1]!.querySelector('a')].map((a) => a!.getAttribute('href'))).toEqual([
      '/runs/41',
      '/runs/42',
      `/runs?policy=3&from=${Date.parse('2027-01-11T00:00:00Z')}&to=${Date.parse('2027-01-12T00:00:00Z')}`,
      '/policies/1',
    ]);
  });

  it('hides what did not go well last', async () => {
    const of = (policyId: number) => run(policyId, { was: { state: policyId === 5 ? 'cutOff' : 'done', runId: policyId } });
    const runCalendar = { zone: 'UTC', days: days('2026-12-28T00:00:00Z', 42, (n) => (n === 1 ? [1, 2, 3, 4, 5, 6].map(of) : [])) };
    const s = await stage('/policies/calendar?day=2027-01-15', { runCalendar });
    await s.until(() => {
      expect(s.all('.day')).toHaveLength(42);
    });
    expect([...s.all('.day')[1]!.querySelectorAll('a')].map((e) => words(e).slice(-8))).toEqual([
      'policy 1',
      'policy 2',
      'policy 3',
      'policy 5',
    ]);
  });

  it('goes on and back by buttons and by arrow keys, all of it in the address', async () => {
    const s = await stage('/policies/calendar?day=2027-01-31');
    await s.click(s.one('[aria-label="After"]'));
    await s.until(() => {
      expect(s.url()).toBe('/policies/calendar?day=2027-02-28');
    });
    document.dispatchEvent(new KeyboardEvent('keydown', { key: 'ArrowLeft' }));
    await s.until(() => {
      expect(s.url()).toBe('/policies/calendar?day=2027-01-28');
    });
    await s.click('Week');
    await s.click(s.one('[aria-label="Before"]'));
    await s.until(() => {
      expect(s.url()).toBe('/policies/calendar?day=2027-01-21&view=week');
    });
    await s.click('Today');
    await s.until(() => {
      expect(s.url()).toBe('/policies/calendar?view=week');
    });
  });

  it('tells how the next hours will go, what would help and how good the telling is', async () => {
    const s = await stage('/policies/calendar', {}, 'auditor');
    await s.until(() => {
      expect(s.text()).toContain('7 tasks on 2 movers: all ends in 6 h');
    });
    const text = s.text();
    expect(text).toContain('2 tasks will not start or end in their window');
    expect(text).toContain('policy 2 1, does not start 1 missed');
    expect(text).toContain('One mover more 2 fewer missed');
    expect(text).toContain('policy 1 an hour earlier done 2 h sooner');
    expect(text).toContain('its 6 tasks had ended by');
    expect(text).toContain('1 task never ran yet');
  });

  const none = { ...fit, tasks: 0, ends: null, missed: 0, policies: [], changes: [], before: null, guessed: 0 };
  it.each([
    ['nothing is due', none, 'Nothing is due'],
    ['no mover is there', { ...none, tasks: 3, movers: 0 }, 'no mover answers, so none of them will start'],
  ])('says where %s', async (_where, nightFit, said) => {
    const s = await stage('/policies/calendar', { nightFit });
    await s.until(() => {
      expect(s.text()).toContain(said);
    });
  });
});
