import { describe, expect, it } from 'vitest';
import { hour, now, open, page, words, type Answers } from '../../test/stage';
import { ApiFailure } from '../data/api';

const audit = page([
  { seq: 2, at: now - hour, actor: 'eva.vind', action: 'policy.change', object: 'Nightly <i>', detail: '{"days":30}' },
  { seq: 3, at: now, actor: 'eva.vind', action: 'workload.tag', object: 'workload 4', detail: 'gates' },
  { seq: 1, at: now - 2 * hour, actor: 'ole.brygge', action: 'session.start', object: 'sign-in', detail: '' },
]);
const stage = (answers: Answers = {}, role: 'administrator' | 'auditor' = 'administrator', url = '/trust/acts') =>
  open(url, {
    role,
    answers: {
      audit,
      listRequests: { rows: [] },
      estateValues: { workloads: [{ id: 4, name: 'tides-02', kind: 'files', coverage: 'protected' }], tags: [], fields: {} },
      listPolicies: page([]),
      listTargets: { rows: [] },
      ...answers,
    },
  });

describe('trust', () => {
  it('shows who did what, escaped, and filters in the address', async () => {
    const s = await stage();
    await s.until(() => {
      expect(s.all('tbody tr')).toHaveLength(3);
    });
    expect(s.all('tbody tr').map((r) => words(r.children[1]!))).toEqual([
      'eva.vind changed Nightly <i>',
      'eva.vind tagged tides-02',
      'ole.brygge signed in',
    ]);
    await s.type('[data-filter]', 'policy');
    expect(s.url()).toBe('/trust/acts?q=policy');
    await s.until(() => {
      expect(s.api.last('audit')?.query).toMatchObject({ q: 'policy' });
    });
    await s.type('[data-filter]', '');
    expect(s.url()).toBe('/trust/acts');
  });

  it.each([
    [{ rows: 1200, intact: true, broken: [], brokenCount: 0, cutShort: false }, '1\u202f200 rows, the chain is whole'],
    [
      { rows: 1200, intact: false, broken: [17, 20], brokenCount: 2, cutShort: true },
      'The chain is broken at rows 17 and 20; rows at its end are missing',
    ],
  ])('checks the chain: %j', async (checkAudit, sentence) => {
    const s = await stage({ checkAudit });
    await s.click('Check the chain');
    expect(words(s.one('lx-trust-head'))).toContain(sentence);
  });

  it('shows what waits for a second person first, who may not decide it and why, and passes the decision on', async () => {
    const request = (id: number, more = {}) => ({
      id,
      subject: `policy ${id}`,
      effect: `Effect ${id}`,
      askedBy: 'Sten Odda',
      askedAt: now - hour,
      state: 'waiting',
      decidedBy: null,
      decidedAt: null,
      outcome: '',
      notByMe: '',
      difference: null,
      ...more,
    });
    const rows = [request(3, { state: 'refused', decidedBy: 'Eva Vind' }), request(2, { notByMe: 'You asked for it.' }), request(1)];
    const s = await stage({
      listRequests: { rows },
      agreeRequest: {},
      refuseRequest: new ApiFailure('NOT_NOW', 'It is not waiting any more.', undefined),
    });
    expect(s.all('.ask').map(words)).toEqual([
      'Effect 2 asked by Sten Odda 1 h ago You asked for it. Withdraw',
      'Effect 1 asked by Sten Odda 1 h ago Agree, do it now Refuse',
      'Effect 3 asked by Sten Odda 1 h ago · refused by Eva Vind',
    ]);
    await s.click('Agree, do it now');
    expect(s.api.last('agreeRequest')?.id).toBe(1);
    await s.click('Withdraw');
    expect(s.api.last('refuseRequest')?.id).toBe(2);
    expect(s.text()).toContain('It is not waiting any more.');
  });

  it('shows an auditor what waits, with nothing to press', async () => {
    const row = {
      id: 1,
      subject: 'point x',
      effect: 'E',
      askedBy: 'S',
      askedAt: now,
      decidedBy: null,
      decidedAt: null,
      outcome: '',
      notByMe: 'no',
      difference: null,
    };
    const s = await stage({ listRequests: { rows: [{ ...row, state: 'waiting' }] } }, 'auditor');
    expect(s.all('.ask')).toHaveLength(1);
    expect(s.all('.ask button')).toEqual([]);
  });

  it('shows an auditor everything and no lever but the check', async () => {
    const s = await stage({}, 'auditor');
    expect(s.all('button').map(words)).toEqual(['Check the chain']);
  });
});
