import { describe, expect, it } from 'vitest';
import { hour, now, open, page, words, type Answers } from '../../test/stage';
import { ApiFailure } from '../data/api';

const audit = page([
  { seq: 2, at: now - hour, actor: 'eva.vind', action: 'policy.change', object: 'Nightly <i>', detail: '{"days":30}' },
  { seq: 1, at: now - 2 * hour, actor: 'ole.brygge', action: 'session.open', object: '', detail: '' },
]);
const people = [
  { id: 1, name: 'eva.vind', display: 'Eva Vind', role: 'administrator', remit: null, disabled: false },
  { id: 2, name: 'ilse.holm', display: 'Ilse Holm', role: 'clerk', remit: [4, 5], disabled: false },
  { id: 3, name: 'gone', display: 'Long Gone', role: 'operator', remit: null, disabled: true },
];
const tokens = [{ id: 7, name: 'nightly report', role: 'auditor', createdAt: now - 90 * hour, lastUsedAt: null }];
const stage = (answers: Answers = {}, role: 'administrator' | 'auditor' = 'administrator', url = '/trust') =>
  open(url, {
    role,
    answers: { audit, listPeople: { rows: people }, listTokens: { rows: tokens }, listRequests: { rows: [] }, ...answers },
  });

describe('trust', () => {
  it('shows who did what, escaped, and filters in the address', async () => {
    const s = await stage();
    await s.until(() => {
      expect(s.all('tbody tr')).toHaveLength(2);
    });
    expect(s.all('tbody tr')[0]?.textContent).toContain('Nightly <i>');
    await s.type('[data-filter]', 'policy');
    expect(s.url()).toBe('/trust?q=policy');
    await s.until(() => {
      expect(s.api.last('audit')?.query).toMatchObject({ q: 'policy' });
    });
    await s.type('[data-filter]', '');
    expect(s.url()).toBe('/trust');
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
    expect(words(s.one('.row-line'))).toContain(sentence);
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
    };
    const s = await stage({ listRequests: { rows: [{ ...row, state: 'waiting' }] } }, 'auditor');
    expect(s.all('.ask')).toHaveLength(1);
    expect(s.all('.ask button')).toEqual([]);
  });

  it('adds a person and bars one, never oneself', async () => {
    const s = await stage({ addPerson: new ApiFailure('NAME_TAKEN', 'This name is taken.', undefined), removePerson: {} });
    const rows = s.all('.p').map(words);
    expect(rows[0]).toBe('Eva Vind eva.vind administrator');
    expect(rows[1]).toBe('Ilse Holm ilse.holm clerk, 2 workloads bar');
    expect(rows[2]).toBe('Long Gone gone barred');
    await s.click('Add a person');
    await s.type('input[name=name]', 'rune.dam');
    await s.type('input[name=display]', 'Rune Dam');
    await s.type('input[name=password]', 'lanterns-at-dawn');
    await s.choose('select[name=role]', 'auditor');
    await s.click(s.one('button[type=submit]'));
    expect(s.one('[role=dialog] .problem').textContent).toContain('taken');
    s.api.answers.addPerson = { id: 9 };
    await s.click(s.one('button[type=submit]'));
    expect(s.api.last('addPerson')?.body).toEqual({ name: 'rune.dam', display: 'Rune Dam', role: 'auditor', password: 'lanterns-at-dawn' });
    expect(s.api.of('listPeople')).toHaveLength(2);
    await s.click('bar');
    expect(s.api.last('removePerson')?.id).toBe(2);
  });

  it('shows a new token once', async () => {
    const s = await stage({ addToken: { token: 'lx_secret_once' }, removeToken: {} });
    await s.click('Issue a token');
    await s.type('input[name=name]', 'report');
    await s.click(s.one('button[type=submit]'));
    expect(s.one('[role=dialog] code').textContent).toBe('lx_secret_once');
    await s.click('Close');
    await s.click('Issue a token');
    expect(s.el.textContent).not.toContain('lx_secret_once');
    await s.click('Close');
    await s.click('withdraw');
    expect(s.api.last('removeToken')?.id).toBe(7);
  });

  it('shows an auditor everything and no lever but the check', async () => {
    const s = await stage({}, 'auditor');
    expect(s.all('button').map(words)).toEqual(['Check the chain']);
  });
});
