import type { SettingStep, TargetDetail } from '@lithodex/contract';
import { describe, expect, it } from 'vitest';
import { target, uuid } from '../../test/samples';
import { detail } from '../../test/target-detail';
import { day, drawn, hour, now, open, page, words } from '../../test/stage';
import { ApiFailure } from '../data/api';

const stage = (more: Partial<TargetDetail> = {}, role: 'administrator' | 'auditor' = 'administrator') =>
  open(`/storage/${uuid(1)}`, { role, answers: { getTarget: detail(more), setPrices: {}, listTargets: page([target(1), target(2)]) } });

describe('a target', () => {
  it('tells when it will be full and how sure that is, and draws it', async () => {
    drawn.length = 0;
    const s = await stage();
    expect(s.text()).toContain('It grows by 1.00 GB a day, four times of five between 1.00 GB and 1.00 GB.');
    expect(s.text()).toMatch(/Full about 1[5-7] Jul 2028/);
    expect(s.text()).not.toContain('Estimated');
    const [, traces] = drawn.at(-1)!;
    expect(traces.map((t) => t.name)).toEqual(['at least', 'at most', 'expected', 'used']);
  });

  it('says so when too little is known, or when it never fills up', async () => {
    const s = await stage({ samples: [{ at: now, used: 1 }] });
    expect(s.text()).toContain('Too little is known yet');
  });

  it('shows what fills it in three ways, names escaped', async () => {
    const s = await stage();
    expect(s.all('.use .num').map(words)).toEqual(['9.00 GB', '3.00 GB']);
    expect(s.one('.use').textContent).toContain('quay-2 <b>');
    expect(s.one<HTMLAnchorElement>('.use a').getAttribute('href')).toBe('/estate/1');
    await s.click('By policy');
    expect(s.all('.use a')).toEqual([]);
    await s.click('By age');
    expect(words(s.one('.use'))).toContain('older');
  });

  it('says what is locked and what a lock on a disk is worth', async () => {
    const s = await stage({ locked: { points: 3, until: now + 9 * day } });
    expect(s.text()).toContain('3 points are locked, the last until Wed 2 Dec 09:00. The store keeps this');
  });

  it('takes prices and tells what follows from them', async () => {
    const prices = { currency: 'EUR', perGbMonth: 0.01, perGbRead: 0.02, perThousandRequests: 0.005, leastDays: 30 };
    const s = await stage({ prices });
    expect(s.all('dt').map(words)).toContain('Removing now what is younger than 30 days');
    expect(s.text()).toContain('Keeping 200 GB for a month EUR 2.00');
    await s.click('Prices');
    await s.type('input[name=currency]', 'NOK');
    await s.click('Save');
    expect(s.api.last('setPrices')).toMatchObject({ id: uuid(1), body: { prices: { ...prices, currency: 'NOK' } } });
    await s.click('Prices');
    await s.click('It costs nothing that is counted');
    expect(s.api.last('setPrices')?.body).toEqual({ prices: null });
  });

  it('looks for unknown points and makes a new key file, saying what that changes', async () => {
    const s = await open(`/storage/${uuid(1)}`, {
      answers: {
        getTarget: detail(),
        listTargets: page([]),
        newKey: {},
        adoptTarget: new ApiFailure('NOT_NOW', 'This target is being verified.', undefined),
      },
    });
    await s.click('Look for unknown points');
    expect(s.text()).toContain('This target is being verified.');
    await s.click('New key file');
    expect(s.text()).toContain('Key envelopes stay valid');
    await s.click('Make the new key file');
    expect(s.api.last('newKey')?.id).toBe(uuid(1));
    expect(s.all('[role=dialog]')).toEqual([]);
  });

  it('says that it is followed, how far behind that is, and takes it over with a reason', async () => {
    const s = await open(`/storage/${uuid(1)}`, {
      answers: {
        getTarget: detail({
          follows: { every: 15, readAt: now - hour, newest: now - 2 * hour },
          ownedElsewhere: now - 9 * day,
          settingsHeld: true,
        }),
        listTargets: page([target(1)]),
        setFollowing: {},
        ownTarget: new ApiFailure('MOVER_FAILED', 'No mover is there.', undefined),
        keptSettings: { at: now - day, auditRows: 4, auditHash: 'f', steps: [{ kind: 'policy', name: 'Nightly', effect: 'add', why: '' }] },
        ownOutlook: {
          readAt: now - hour,
          points: 41,
          workloads: [
            { id: 3, name: 'quay-1', kind: 'files', newest: now - 2 * day, takes: 90_000, triedAt: null, protectedHere: false },
            { id: 4, name: 'quay-2', kind: 'files', newest: now - hour, takes: null, triedAt: now - day, protectedHere: true },
          ],
          all: 2,
          back: { ms: null, atOnce: 2, unknown: 1 },
          repeats: [{ id: 5, name: 'Ready', workloads: 1, lastAt: now - day, state: 'failed' }],
        },
      },
    });
    expect(words(s.one('lx-other-owner'))).toMatch(/followed from here: nothing is written.*Read 1 h ago/);
    expect(s.text()).not.toContain('New key file');
    expect(s.text()).not.toContain('The settings of the installation before');
    await s.click('Take it over');
    expect(s.text()).toContain('The other one is refused at its next write');
    const told = s.all('[role=dialog] .checks li').map(words);
    expect(told[1]).toMatch(/its 2 workloads became.*oldest of these is quay-1/);
    expect(told[2]).toContain('of 1 workload nothing was measured here');
    expect(told[3]).toMatch(/the last time of Ready did not end well.*1 workload never came back here/);
    expect(told[4]).toMatch(/Nothing is run here of 1 workload.*1 policy that can be taken/);
    expect(words(s.one('[role=dialog] tbody tr'))).toMatch(/quay-1.*2 min|1 min 30 s/);
    await s.type('input[name=reason]', 'the quay is under water');
    s.one<HTMLFormElement>('[role=dialog] form').dispatchEvent(new Event('submit'));
    await s.settle();
    expect(s.api.last('ownTarget')?.body).toEqual({ reason: 'the quay is under water' });
    expect(s.one('[role=dialog] .problem').textContent).toContain('No mover is there');
  });

  it('says that another took it, or who follows it', async () => {
    const s = await stage({ ownedElsewhere: now - day });
    expect(words(s.one('lx-other-owner'))).toContain('nothing is written from here any more');
  });

  it('says who follows it', async () => {
    const s = await stage({ followed: [now - hour] });
    expect(words(s.one('lx-other-owner'))).toContain('Another installation follows this store and reads it without writing.');
    expect(s.text()).not.toContain('Take it over');
  });

  it('takes a limit for writers, is given up for another target, and forgotten when nothing stands only there', async () => {
    const answers = {
      listTargets: page([target(1), target(2)]),
      setLimits: {},
      keepNewest: {},
      retireTarget: { runId: null },
      forgetTarget: { request: 3 },
    };
    const s = await open(`/storage/${uuid(1)}`, { answers: { getTarget: detail({ onlyHere: 12 }), ...answers } });
    await s.fill('writers', '2 tasks');
    expect(s.api.last('setLimits')?.body).toEqual({ paces: [], writers: 2 });
    await s.fill('newest dumps', 'kept beside the store');
    expect(s.api.last('keepNewest')).toMatchObject({ id: uuid(1), body: { files: true } });
    await s.click('Give it up');
    expect(s.text()).toContain('12 points stand nowhere else and are copied there.');
    await s.choose('select[name=to]', uuid(2));
    await s.click(s.one('[role=dialog] .go'));
    expect(s.api.last('retireTarget')).toMatchObject({ id: uuid(1), body: { to: uuid(2) } });
  });

  const step = (kind: SettingStep['kind'], name: string, effect: SettingStep['effect'], why = '') => ({ kind, name, effect, why });
  const kept = {
    at: now - hour,
    auditRows: 9,
    auditHash: '',
    steps: [
      step('source', 'quay', 'same'),
      step('policy', '<b>Nightly</b>', 'add'),
      step('policy', 'Far', 'leave', 'needs far, not taken over yet'),
    ],
  };

  it('that was taken over asks what becomes of the settings kept there, and takes them as they were looked at', async () => {
    const answers = { getTarget: detail({ settingsHeld: true }), keptSettings: kept, takeSettings: { added: 1, changed: 0 } };
    const s = await open(`/storage/${uuid(1)}`, { answers });
    await s.click('Look at them');
    const rows = s.all('lx-kept-settings tr').map(words);
    expect(rows).toEqual(['policy <b>Nightly</b> added', expect.stringMatching(/Far .*left needs far, not taken over yet/)]);
    expect(s.text()).toContain('As they are here: 1 source.');
    expect(words(s.one('lx-kept-settings p'))).toContain('adds or changes 1 thing and leaves 1 for a person; nothing is removed.');
    await s.click('Take them over');
    expect(s.api.last('takeSettings')).toMatchObject({ id: uuid(1), body: { at: kept.at } });
    expect(s.all('lx-kept-settings')).toEqual([]);
  });

  it('keeps the settings of this installation once the others are left, and says what went wrong', async () => {
    const refused = new ApiFailure('NOT_NOW', 'Nobody has to decide.', undefined);
    const answers = { getTarget: detail({ settingsHeld: true }), keptSettings: { ...kept, steps: [] }, leaveSettings: refused };
    const s = await open(`/storage/${uuid(1)}`, { answers });
    await s.click('Look at them');
    expect(s.text()).not.toContain('Take them over');
    await s.click('Leave them, keep those of this installation there');
    expect(words(s.one('lx-kept-settings .problem'))).toBe('Nobody has to decide.');
  });

  it('that is being given up says what is left, and can be forgotten when nothing is', async () => {
    const s = await stage({ retiredTo: uuid(2), onlyHere: 0 });
    expect(s.text()).toContain('its points go to disk-2. All of them stand elsewhere too.');
    s.api.answers.forgetTarget = new ApiFailure('NOT_NOW', 'Tasks on it have not ended yet.', undefined);
    await s.click('Ask to forget it');
    expect(s.text()).toContain('Tasks on it have not ended yet.');
  });

  it('that was taken over says what the policies do not decide yet, and asks a second person', async () => {
    const s = await stage({ takenOver: 12 });
    expect(s.text()).toContain('12 of the points here were taken over with it and stay');
    s.api.answers.settleTarget = { request: 4 };
    await s.click('Ask to leave them to the policies');
    expect(s.api.last('settleTarget')).toMatchObject({ id: uuid(1) });
    expect(s.url()).toBe('/trust/acts');
  });

  it('lets an auditor look only', async () => {
    const s = await stage({}, 'auditor');
    expect(s.all('button.act').map(words)).toEqual(['By workload', 'By policy', 'By age']);
  });

  it('takes limits by hour of the day and keeps the others', async () => {
    const paces = [{ from: '07:00', to: '18:00', perSecond: 5_000_000 }];
    const s = await stage({ paces, writers: 3 });
    await s.click('07:00–18:00 5.00 MB/s');
    await s.type('[aria-label="MB a second in hours 1"]', '2.5');
    await s.click('Add hours');
    await s.type('[aria-label="start of hours 2"]', '20:00');
    await s.type('[aria-label="MB a second in hours 2"]', '');
    expect(s.button('Save').disabled).toBe(true);
    await s.type('[aria-label="MB a second in hours 2"]', '40');
    await s.click('Save');
    expect(s.api.last('setLimits')?.body).toEqual({
      writers: 3,
      paces: [
        { from: '07:00', to: '18:00', perSecond: 2_500_000 },
        { from: '20:00', to: '18:00', perSecond: 40_000_000 },
      ],
    });
  });

  it('shows an auditor the limits without a button', async () => {
    const s = await stage({ paces: [{ from: '00:00', to: '00:00', perSecond: 5e6 }] }, 'auditor');
    expect(s.text()).toContain('always 5.00 MB/s');
    expect(
      s
        .all('button')
        .map(words)
        .filter((t) => t.includes('MB/s')),
    ).toEqual([]);
  });
});
