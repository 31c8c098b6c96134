import { TestBed } from '@angular/core/testing';
import { describe, expect, it } from 'vitest';
import { estate, policyBody, run, uuid, version, workload } from '../../test/samples';
import { day, hour, now, open, page, type Answers } from '../../test/stage';
import { ApiFailure } from '../data/api';
import { Picks } from '../data/picks';

const found = (n: number, path: string, more: object = {}) => ({
  workload: { id: n, name: `quay-${n}` },
  path,
  kind: 'file',
  size: 2000,
  versions: 3,
  firstSeen: now - 9 * day,
  lastSeen: now - hour,
  lastPointId: uuid(n),
  stillThere: true,
  ...more,
});
const rows = [found(1, 'plans/roster: north.csv'), found(2, 'roster.csv', { stillThere: false, lastSeen: now - 4 * day })];
const picked = () => TestBed.inject(Picks).items();

describe('finding what was lost', () => {
  const stage = (url: string, answers: Answers = {}, role: 'administrator' | 'auditor' = 'administrator') =>
    open(url, {
      role,
      answers: {
        search: { ...page(rows), notInside: 0 },
        estate: estate([workload(1), workload(2, { gone: now - day })]),
        listRuns: page([
          run(5, { kind: 'restore', name: 'Plans of quay-1', trigger: 'hand' }),
          run(6, { kind: 'restore', name: 'Half', state: 'partsMissing', trigger: 'hand' }),
          run(7, { kind: 'restore', name: 'Repeated every day', trigger: 'schedule' }),
        ]),
        listPolicies: page([{ id: 5, body: policyBody(), matches: [], nextRun: null, lastRun: null, points: 3 }]),
        versions: { rows: [version(1, now - hour, { points: 4 }), version(2, now - 2 * day, { suspect: true, ended: 'gone' })] },
        ...answers,
      },
    });

  it('starts with what can be walked and what was restored lately', async () => {
    const s = await stage('/recover');
    expect(s.all('.start section')[0]?.querySelectorAll('.w-row')).toHaveLength(2);
    expect(s.all('.start section')[1]?.textContent).toContain('Plans of quay-1');
    expect(s.all('.start section')[1]?.textContent).toContain('parts missing');
    expect(s.all('.start section')[1]?.textContent).not.toContain('Repeated every day');
    expect(s.api.of('search')).toEqual([]);
    expect(s.api.last('estate')?.query).toMatchObject({ show: 'points' });
    expect(s.all('.w-row')[1]!.textContent).toContain('gone');
  });

  it('narrows what can be walked, and says how much more there is', async () => {
    const s = await stage('/recover', { estate: { ...estate([workload(1)]), total: 900 } });
    expect(s.text()).toContain('1 of 900 shown');
    await s.type('[aria-label="Workloads to walk"]', 'berth');
    await s.until(() => {
      expect(s.api.last('estate')?.query).toMatchObject({ show: 'points', q: 'berth' });
    });
    expect(s.url()).toBe('/recover?walk=berth');
  });

  it.each([
    [estate([]), 'nothing can be brought back'],
    [new ApiFailure('UNREACHABLE', 'The server does not answer.', undefined), 'The server does not answer'],
  ])('says that nothing can be brought back only when that is known', async (answer, words) => {
    expect((await stage('/recover', { estate: answer })).one('.start section').textContent).toContain(words);
  });

  it('searches from the second letter on, in one workload or in all', async () => {
    const s = await stage('/recover');
    await s.type('[data-filter]', 'r');
    expect(s.all('table')).toEqual([]);
    await s.type('[data-filter]', 'roster');
    await s.until(() => {
      expect(s.all('tbody tr')).toHaveLength(2);
    });
    expect(s.url()).toBe('/recover?q=roster');
    expect(s.all('tbody tr')[1]?.textContent).toContain('then gone');
    await s.choose('[aria-label=In]', '2');
    await s.until(() => {
      expect(s.api.last('search')?.query).toMatchObject({ q: 'roster', workload: '2' });
    });
  });

  it('searches what a policy has points of, and says where names inside disks are not searched', async () => {
    const s = await stage('/recover?q=roster', { search: { ...page(rows), notInside: 12 } });
    await s.until(() => {
      expect(s.text()).toContain('Names inside the disks of 12 machines are not among these');
    });
    await s.choose('[aria-label=In]', 'policy-5');
    await s.until(() => {
      expect(s.api.last('search')?.query).toMatchObject({ q: 'roster', policy: '5' });
    });
    expect(s.url()).toBe('/recover?q=roster&within=policy-5');
    expect(s.one<HTMLSelectElement>('[aria-label=In]').selectedOptions[0]?.textContent).toContain('by the policy Nightly');
  });

  it('lists all versions of an item whose name holds a colon, and picks one', async () => {
    const s = await stage('/recover?q=roster&item=1:plans/roster: north.csv');
    await s.until(() => {
      expect(s.all('.ver')).toHaveLength(2);
    });
    expect(s.api.last('versions')?.query).toEqual({ workload: 1, path: 'plans/roster: north.csv' });
    expect(s.one('aside').textContent).toContain('quay-1: plans');
    expect(s.all('.ver')[1]?.textContent).toContain('suspect');
    await s.click(s.all('.ver .act')[1]!);
    expect(picked()).toMatchObject([{ pointId: uuid(2), workload: 'quay-1', path: 'plans/roster: north.csv' }]);
    expect(s.all('.ver .act').map((b) => b.textContent)).toEqual(['Pick', 'Picked']);
    expect(s.button('Open the restore sheet').classList.contains('go')).toBe(true);
    await s.click('Empty the list');
    expect(picked()).toEqual([]);
  });

  it('is worked with the keys alone', async () => {
    const s = await stage('/recover?q=roster');
    await s.until(() => {
      expect(s.all('tbody tr')).toHaveLength(2);
    });
    await s.press('j');
    await s.press('x');
    expect(picked()).toMatchObject([{ pointId: uuid(2), path: 'roster.csv', moment: now - 4 * day }]);
    await s.press('Enter');
    expect(s.url()).toBe('/recover?q=roster&item=2:roster.csv');
  });

  it('says when nothing fits and when the search fails', async () => {
    const s = await stage('/recover?q=zzz', { search: { ...page([]), notInside: 0 } });
    await s.until(() => {
      expect(s.text()).toContain('No name in any point holds this text.');
    });
    s.api.answers.search = new ApiFailure('UNREACHABLE', 'The server does not answer.', undefined);
    await s.go('/recover?q=yyy');
    await s.until(() => {
      expect(s.one('[role=alert]').textContent).toContain('does not answer');
    });
  });

  it('lets an auditor look, not pick', async () => {
    const s = await stage('/recover?q=roster', {}, 'auditor');
    await s.until(() => {
      expect(s.all('tbody tr')).toHaveLength(2);
    });
    expect(s.all('input[type=checkbox]')).toEqual([]);
    expect(s.text()).not.toContain('restore sheet');
  });
});
