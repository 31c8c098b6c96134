import { Subject } from 'rxjs';
import { describe, expect, it } from 'vitest';
import { consequences, draft, policy, said, stage } from '../../test/policy-stage';
import { policyBody, target, uuid } from '../../test/samples';
import { day, now, page, words } from '../../test/stage';
import { ApiFailure } from '../data/api';

describe('writing a policy', () => {
  it('starts from sensible sentences, with the workload one came from', async () => {
    const s = await stage('/policies/new?workload=2');
    await s.until(() => {
      expect(s.api.of('consequences')).toHaveLength(1);
    });
    expect(said(s)).toMatchObject({ workloads: [2], targetId: uuid(1), keep: { by: 'days', days: 14 }, name: 'draft' });
    expect(s.all('.rule .slot').map(words)).toEqual(['day', '22:00', 'incremental', 'disk-1', '14 days', 'never', 'not locked']);
    expect(s.button('Put in force').disabled).toBe(true);
    await s.type('.title', 'Nightly north');
    await s.until(() => {
      expect(s.button('Put in force').disabled).toBe(false);
    });
    expect(s.button('Put in force').disabled).toBe(false);
  });

  it.each([
    ['kind', 'differential', { kind: 'differential' }],
    ['synthetic full', 'every month', { synthetic: 'month' }],
    ['rhythm', 'week', { schedule: { every: 'week', days: [7], at: '22:00' } }],
    ['rhythm', 'few hours', { schedule: { every: 'hours', hours: 6, at: '00:00' } }],
    ['rhythm', 'time a person', { schedule: { every: 'hand' } }],
    ['rhythm', 'month', { schedule: { every: 'month', on: { day: 1 }, at: '22:00' } }],
    ['rhythm', 'few minutes', { schedule: { every: 'minutes', minutes: 30 } }],
    ['rhythm', 'time its last run', { schedule: { every: 'continuous', pauseMinutes: 15 } }],
    ['rhythm', 'time another policy', { schedule: { every: 'after', policyId: 9 } }],
    ['window', { typed: '21:30 to 5:00' }, { window: { from: '21:30', to: '05:00', stop: false } }],
    ['window', { typed: '25:00 to 5:00' }, { window: null }],
    ['closed day', { typed: '2027-05-17' }, { closed: ['2027-05-17'] }],
    ['closed day', { typed: '2027-02-30' }, { closed: [] }],
    ['retries', '3 times', { retries: { times: 3, pauseMinutes: 30 } }],
    ['missed runs', 'is left out', { catchUp: false }],
    ['priority', 'first', { priority: 'first' }],
    ['time', { typed: '21:45' }, { schedule: { every: 'day', at: '21:45' } }],
    ['time', { typed: '25:99' }, { schedule: { every: 'day', at: '22:00' } }],
    ['retention', { typed: '45 days' }, { keep: { by: 'days', days: 45 } }],
    ['retention', { typed: '12 points' }, { keep: { by: 'points', points: 12 } }],
    ['retention', { typed: '0 days' }, { keep: { by: 'days', days: 30 } }],
    ['retention', 'until a person', { keep: { by: 'hand' } }],
    ['kind', 'full', { kind: 'full' }],
    ['target', 'disk-2', { targetId: uuid(2) }],
    ['tag', 'room: north', { tags: ['room: north'] }],
    ['workload', 'quay-2', { workloads: [1, 2] }],
    ['objective', '48 h', { objectiveHours: 48 }],
    ['change limit', '60 %', { changeLimit: 60 }],
    ['script before', { typed: 'freeze.sh' }, { scripts: { before: 'freeze.sh', after: null, minutes: 15 } }],
    ['names inside disks', 'kept with each point, for search and comparison', { namesInside: true }],
    ['zone', { typed: 'Europe/Oslo' }, { zone: 'Europe/Oslo' }],
  ])('takes a choice in the slot %s: %j', async (label, choice, wanted) => {
    const s = await stage('/policies/5');
    await s.until(() => {
      expect(s.api.of('consequences').length).toBeGreaterThan(0);
    });
    await s.fill(label, choice);
    await s.until(() => {
      expect(said(s)).toMatchObject(wanted);
    });
  });

  it('keeps what was changed while the page was still being loaded', async () => {
    const late = new Subject<unknown>();
    const s = await stage('/policies/5', { policyStart: late });
    await s.click('Another rule');
    expect(s.all('.rule')).toHaveLength(2);
    late.next({ policyId: null, terms: null });
    await s.settle();
    expect(s.all('.rule')).toHaveLength(2);
  });

  it('never leaves a week without a day', async () => {
    const body = policyBody({ schedule: { every: 'week', days: [2], at: '22:00' } });
    const s = await stage('/policies/5', { getPolicy: { ...policy, body } });
    await s.click('Tu');
    expect(s.button('Tu').getAttribute('aria-pressed')).toBe('true');
    await s.click('Mo');
    await s.click('Tu');
    await s.until(() => {
      expect(said(s).schedule).toMatchObject({ days: [1] });
    });
  });

  it('says how the days of a month are meant, and what goes with a window', async () => {
    const body = policyBody({
      schedule: { every: 'month', on: { nth: 2, weekday: 2 }, at: '22:00' },
      window: { from: '22:00', to: '06:00', stop: false },
      closed: ['12-24'],
      retries: { times: 1, pauseMinutes: 10 },
    });
    const s = await stage('/policies/5', { getPolicy: { ...policy, body } });
    await s.until(() => {
      expect(s.text()).toContain('the second Tuesday');
    });
    await s.fill('day of the month', 'the last day');
    await s.fill('end of the window', 'is cut off');
    await s.fill('pause before trying again', '1 hour');
    await s.click(s.one('[aria-label="Without closed day 12-24"]'));
    await s.until(() => {
      expect(said(s)).toMatchObject({
        schedule: { on: { day: 31 } },
        window: { from: '22:00', to: '06:00', stop: true },
        closed: [],
        retries: { times: 1, pauseMinutes: 60 },
      });
    });
    await s.fill('window', 'at any hour');
    await s.until(() => {
      expect(draft(s)).toMatchObject({ window: null });
    });
  });

  it('takes rules that can be read, completes them, and says what came and went', async () => {
    const s = await stage('/policies/5');
    await s.until(() => {
      expect(words(s.one('.matches'))).toContain('quay-2 tagged room: north, also by Hourly new');
    });
    expect(words(s.one('.matches'))).toContain('quay-3 no more');
    await s.choose('lx-rule-field:nth-of-type(1) input', 'tag');
    await s.until(() => {
      expect(s.text()).toContain('After tag comes a pattern');
    });
    expect(draft(s).rule).toBe('');
    await s.choose('lx-rule-field:nth-of-type(1) input', 'tag "room: north" and not name quay-1 ');
    await s.choose('lx-rule-field:nth-of-type(2) input', 'name test-*');
    await s.until(() => {
      expect(draft(s)).toMatchObject({ rule: 'tag "room: north" and not name quay-1', except: 'name test-*' });
    });
  });

  it('says what a draft changes and what was changed before, and goes back to it', async () => {
    const before = policyBody({ keep: { by: 'days', days: 14 }, tags: ['old'], workloads: [2] });
    const rows = [
      { no: 2, at: now - day, by: 'eva.vind', body: policyBody() },
      { no: 1, at: now - 9 * day, by: 'sten.odda', body: before },
    ];
    const s = await stage('/policies/5', { policyVersions: { rows } });
    await s.until(() => {
      expect(s.all('lx-policy-versions .version').map(words)).toEqual([
        '2 Sun 22 Nov 09:00 by eva.vind in force workloads: quay-2 → quay-1 tags: − old kept: 14 days → 30 days',
        '1 Sat 14 Nov 09:00 by sten.odda as it was first written down Take as draft',
      ]);
    });
    expect(s.text()).not.toContain('This draft changes');
    await s.fill('kind', 'full');
    await s.until(() => {
      expect(words(s.one('lx-policy-versions ul'))).toBe('kind: incremental → full');
    });
    await s.click('Take as draft');
    await s.until(() => {
      expect(draft(s)).toEqual(before);
    });
  });

  it('begins a copy as what it is a copy of, under a name of its own', async () => {
    const s = await stage('/policies/5');
    await s.click('Copy');
    await s.until(() => {
      expect(s.url()).toBe('/policies/new?like=5');
      expect(s.one<HTMLInputElement>('.title').value).toBe('Nightly, copy');
    });
    await s.until(() => {
      expect(draft(s)).toEqual(policyBody({ name: 'Nightly, copy' }));
      expect(s.button('Put in force').disabled).toBe(false);
    });
  });

  it('takes patterns line by line and drops what was chosen', async () => {
    const s = await stage('/policies/5');
    await s.choose('.patterns textarea', ' *.tmp \n\nscratch/');
    await s.click(s.one('[aria-label="Without quay-1"]'));
    await s.until(() => {
      expect(draft(s)).toMatchObject({ exclude: ['*.tmp', 'scratch/'], workloads: [] });
    });
    expect(s.text()).toContain('draft, differs from what is in force');
  });

  it('keeps long-term points beside the ordinary ones, also when those change', async () => {
    const s = await stage('/policies/new?workload=2');
    await s.click('Keep long-term points too');
    await s.fill('yearly points', '5 years');
    await s.fill('first day', 'Sun');
    await s.fill('retention', '30 days');
    await s.until(() => {
      expect(said(s).keep).toEqual({ by: 'days', days: 30, longTerm: { weeks: 8, months: 12, years: 5, day: 7 } });
    });
    await s.fill('weekly points', 'no weeks');
    await s.fill('monthly points', 'no months');
    await s.fill('yearly points', 'no years');
    await s.until(() => {
      expect(said(s).keep).toEqual({ by: 'days', days: 30 });
    });
  });

  it('copies points to other targets, each kept as its own sentence says', async () => {
    const s = await stage('/policies/new?workload=2');
    await s.until(() => {
      expect(s.text()).toContain('Points stand on one target only');
    });
    await s.click('Copy to another target');
    await s.until(() => {
      expect(said(s).copies).toEqual([{ targetId: uuid(2), rhythm: 'every', keep: { by: 'days', days: 30 }, lockDays: null }]);
    });
    expect(s.all('lx-copy-rules button.act').map(words)).toEqual(['Keep long-term points too', 'Without this copy']);
    await s.fill('copy rhythm', 'the newest point once a week');
    await s.fill('copy retention', { typed: '12 points' });
    await s.until(() => {
      expect(said(s).copies).toMatchObject([{ rhythm: 'week', keep: { by: 'points', points: 12 } }]);
    });
    await s.fill('target', 'disk-2');
    await s.until(() => {
      expect(said(s)).toMatchObject({ targetId: uuid(2), copies: [] });
    });
  });

  it('locks points where the target can, and says what the lock is worth', async () => {
    const place = { kind: 'bucket' as const, endpoint: 'https://o.example', region: 'r', bucket: 'b-1', prefix: '', locks: true };
    const plain = { ...place, bucket: 'b-2', locks: false };
    const copies = [2, 3].map((n) => ({
      targetId: uuid(n),
      rhythm: 'every' as const,
      keep: { by: 'days' as const, days: 90 },
      lockDays: n === 3 ? 9 : null,
    }));
    const s = await stage('/policies/5', {
      listTargets: page([target(1), target(2, { place }), target(3, { place: plain })]),
      getPolicy: { ...policy, body: policyBody({ copies }) },
    });
    expect(s.text()).toContain('disk-3 has no object lock, so nothing can be locked there.');
    await s.click('Without the lock');
    await s.fill('lock', '30 days');
    await s.until(() => {
      expect(said(s)).toMatchObject({ lockDays: 30, copies: [{ lockDays: null }, { lockDays: null }] });
    });
    expect(s.text()).toContain('whoever administers the disk can still erase it');
    const second = s.all('[aria-label^="lock:"]')[1]!;
    await s.click(second);
    const box = [...document.querySelectorAll('.menu.show')].at(-1)!.querySelector('input')!;
    box.value = '45 days';
    box.dispatchEvent(new Event('input'));
    box.dispatchEvent(new KeyboardEvent('keydown', { key: 'Enter' }));
    await s.until(() => {
      expect(said(s).copies[0]).toMatchObject({ lockDays: 45 });
    });
    expect(s.all('lx-lock-rule').map(words)[1]).toContain('Nobody can remove it for 45 days');
  });

  it('asks a second person where promises to points would be broken', async () => {
    const s = await stage('/policies/5', {
      consequences: { ...consequences, secondPerson: '3 copies of points deleted at once' },
      changePolicy: { request: 4 },
      audit: page([]),
      listPeople: { rows: [] },
      listTokens: { rows: [] },
      listRequests: { rows: [] },
    });
    await s.fill('retention', '7 days');
    await s.until(() => {
      expect(s.button('Ask a second person').disabled).toBe(false);
    });
    await s.click('Ask a second person');
    expect(s.url()).toBe('/trust/acts');
  });

  it('waits for an answer when points would be deleted, and asks again after every change', async () => {
    const deletes = { points: 16, oldest: now - 30 * day, newest: now - 15 * day, workloads: ['quay-1'] };
    const s = await stage('/policies/5', { consequences: { ...consequences, deletes }, changePolicy: { request: null } });
    await s.fill('retention', '7 days');
    await s.until(() => {
      expect(said(s).keep).toEqual({ by: 'days', days: 7 });
      expect(s.text()).toContain('Agree');
    });
    expect(s.button('Put in force').disabled).toBe(true);
    await s.click('Agree');
    await s.until(() => {
      expect(s.button('Put in force').disabled).toBe(false);
    });
    await s.fill('objective', '48 h');
    expect(s.button('Put in force').disabled).toBe(true);
    await s.until(() => {
      expect(draft(s).objectiveHours).toBe(48);
    });
    expect(s.button('Put in force').disabled).toBe(true);
    await s.click('Agree');
    await s.until(() => {
      expect(s.button('Put in force').disabled).toBe(false);
    });
    await s.click('Put in force');
    expect(s.api.last('changePolicy')).toMatchObject({ id: 5, body: { rules: [{ keep: { by: 'days', days: 7 } }], objectiveHours: 48 } });
    expect(s.url()).toBe('/policies');
  });

  it('keeps the draft beside a refusal', async () => {
    const s = await stage('/policies/5', { changePolicy: new ApiFailure('NAME_TAKEN', 'There is a policy of this name.', undefined) });
    await s.type('.title', 'Hourly');
    expect(s.button('Put in force').disabled).toBe(true);
    await s.until(() => {
      expect(s.button('Put in force').disabled).toBe(false);
    });
    await s.click('Put in force');
    expect(s.one('[role=alert]').textContent).toContain('There is a policy of this name.');
    expect(s.one<HTMLInputElement>('.title').value).toBe('Hourly');
    expect(s.button('Put in force').disabled).toBe(false);
  });

  it('says who would be left without protection before a policy ends', async () => {
    const s = await stage('/policies/5', { removePolicy: {} });
    await s.until(() => {
      expect(s.api.of('consequences').length).toBeGreaterThan(0);
    });
    await s.click('End this policy');
    expect(words(s.one('[role=dialog] p'))).toContain('Its 31 points stay until they expire. Nothing else protects quay-1.');
    expect(s.api.of('removePolicy')).toEqual([]);
    await s.click('End the policy');
    expect(s.api.last('removePolicy')?.id).toBe(5);
    expect(s.url()).toBe('/policies');
  });

  it('runs now or as a trial', async () => {
    const s = await stage('/policies/5', { runPolicy: { runId: 40 } });
    await s.click('Trial run');
    expect(s.api.last('runPolicy')).toMatchObject({ id: 5, body: { trial: true } });
    expect(s.url()).toBe('/runs/40');
  });

  it('can be read by an auditor, with nothing to change', async () => {
    const s = await stage('/policies/5', {}, 'auditor');
    expect(s.one<HTMLInputElement>('.title').disabled).toBe(true);
    expect(s.all('.slot').every((b) => (b as HTMLButtonElement).disabled)).toBe(true);
    expect(s.all('.row-line .act')).toEqual([]);
  });

  it('says so when there is no such policy', async () => {
    const s = await stage('/policies/99', { getPolicy: new ApiFailure('NOT_FOUND', 'There is no such policy.', undefined) });
    expect(s.one('[role=alert]').textContent).toBe('There is no such policy.');
  });
});

describe('the policies', () => {
  it('are listed with their sentence, what they match and when they run', async () => {
    const empty = { ...policy, id: 6, body: policyBody({ name: 'Spare', schedule: { every: 'hand' } }), matches: [], nextRun: null };
    const s = await stage('/policies', { listPolicies: page([policy, empty]) });
    const rows = s.all('tbody tr').map(words);
    expect(rows[0]).toContain('Nightly');
    expect(rows[0]).toContain('1: quay-1 Tue 24 Nov 09:00 never 31');
    expect(rows[1]).toContain('matches nothing by hand never');
  });

  it('say what a policy is when there is none', async () => {
    const s = await stage('/policies', { listPolicies: page([]) }, 'operator');
    expect(s.text()).toContain('There is no policy yet.');
    expect(s.all('.act.go')).toEqual([]);
  });
});
