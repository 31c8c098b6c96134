import { describe, expect, it } from 'vitest';
import { day, hour, now, open, words, type Answers } from '../../test/stage';
import { ApiFailure } from '../data/api';

const person = (id: number, name: string, display: string, role: string, more = {}) => ({
  id,
  name,
  display,
  role,
  remit: null,
  disabled: false,
  second: 'none',
  organisation: false,
  ...more,
});
const people = [
  person(1, 'eva.vind', 'Eva Vind', 'administrator', { second: 'code' }),
  person(2, 'ilse.holm', 'Ilse Holm', 'clerk', { remit: [4, 5] }),
  person(3, 'gone', 'Long Gone', 'operator', { disabled: true }),
  person(4, 'tove.lund', 'Tove Lund', 'operator', { organisation: true }),
];
const settings = { secondFor: ['administrator'], idleMinutes: 240, selfService: false, organisation: null };
const estateValues = {
  workloads: [
    { id: 4, name: 'harbour-office', kind: 'files', coverage: 'protected' },
    { id: 5, name: 'pilot-rosters', kind: 'files', coverage: 'protected' },
  ],
  tags: [],
  fields: {},
};
const stage = (answers: Answers = {}, role: 'administrator' | 'auditor' = 'administrator') =>
  open('/trust/people', { role, answers: { listPeople: { rows: people }, signInSettings: settings, estateValues, ...answers } });

describe('people', () => {
  it('are listed with what they may do and how they sign in', async () => {
    const s = await stage();
    expect(s.all('tbody tr').map(words)).toEqual([
      'Eva Vind eva.vind administrator all password and code change new password',
      'Ilse Holm ilse.holm clerk 2 workloads password only change new password bar',
      'Long Gone gone barred',
      'Tove Lund tove.lund operator all by the organisation change bar',
    ]);
  });

  it('are added with a first password, and what is wrong with it is said in the form', async () => {
    const s = await stage({ addPerson: new ApiFailure('PASSWORD_WEAK', 'Too easy to guess.', undefined), removePerson: {} });
    await s.click('Add a person');
    await s.type('input[name=name]', 'rune.dam');
    await s.type('input[name=display]', 'Rune Dam');
    await s.type('input[name=password]', 'lanterns-at-dawn');
    await s.choose('select[name=role]', 'clerk');
    await s.click(s.one('lx-remit-choice input[type=checkbox]'));
    await s.click(s.one('button[type=submit]'));
    expect(s.one('[role=dialog] .problem').textContent).toContain('Too easy');
    s.api.answers.addPerson = { id: 9 };
    await s.click(s.one('button[type=submit]'));
    expect(s.api.last('addPerson')?.body).toMatchObject({ name: 'rune.dam', role: 'clerk', remit: [4] });
    await s.click('bar');
    expect(s.one('[role=dialog]').textContent).toContain('end at once');
    expect(s.api.last('removePerson')).toBeUndefined();
    await s.click('Bar them');
    expect(s.api.last('removePerson')?.id).toBe(2);
  });

  it('get another role by a second person, and a link when they forgot', async () => {
    const s = await stage({ changePerson: { request: 7 }, resetPerson: { path: '/reset?code=lxr_x', until: now + day } });
    await s.click('change');
    await s.choose('select[name=role]', 'operator');
    expect(s.one('[role=dialog]').textContent).toContain('Another administrator has to agree');
    await s.click('Ask for it');
    expect(s.api.last('changePerson')).toMatchObject({ id: 1, body: { display: 'Eva Vind', role: 'operator', remit: null } });
    expect(s.one('[role=status]').textContent).toContain('waits under Trust');
    await s.click('new password');
    await s.click('Make a link');
    expect(s.one('[role=dialog] code').textContent).toContain('/reset?code=lxr_x');
  });

  it('sign in by what the rules say', async () => {
    const s = await stage({ setSignInRules: {}, setOrganisation: {} });
    await s.click(s.all('.rules input[type=checkbox]')[1]!);
    expect(s.api.last('setSignInRules')?.body).toEqual({ secondFor: ['administrator', 'operator'], idleMinutes: 240, selfService: false });
    await s.click('Let people sign in by the organisation');
    await s.type('input[name=name]', 'Kelmar Harbour');
    await s.type('input[name=issuer]', 'https://people.example');
    await s.type('input[name=client]', 'lithodex');
    await s.type('input[name=secret]', 'between us');
    await s.type('input[aria-label="Group 1"]', 'backup-operators');
    await s.click('Try it and keep it');
    expect(s.api.last('setOrganisation')?.body).toMatchObject({
      issuer: 'https://people.example',
      groups: [{ group: 'backup-operators', role: 'operator' }],
    });
  });

  it('are shown to an auditor with nothing to press', async () => {
    const s = await stage({}, 'auditor');
    expect(s.all('button.act, button.plain')).toEqual([]);
  });
});

describe('tokens', () => {
  const tokens = [
    {
      id: 7,
      name: 'nightly report',
      role: 'auditor',
      remit: null,
      owner: 'Eva Vind',
      createdAt: now - 90 * hour,
      lastUsedAt: null,
      expiresAt: now + 5 * day,
    },
    { id: 8, name: 'old', role: 'clerk', remit: [4], owner: null, createdAt: now, lastUsedAt: now - hour, expiresAt: null },
  ];
  const moverTokens = [
    { id: 9, name: 'quay-mover', mover: null, duties: ['capture', 'keep', 'prune'], systems: null, createdAt: now, lastUsedAt: now },
  ];
  const at = (answers: Answers = {}) =>
    open('/trust/tokens', {
      answers: {
        listTokens: { rows: tokens },
        listMoverTokens: { rows: moverTokens },
        listPlatforms: { rows: [] },
        estateValues,
        ...answers,
      },
    });

  it('say whose they are and when they end, are issued anew and withdrawn', async () => {
    const s = await at({ rotateToken: { token: 'lxt_anew' }, removeToken: {}, removeMoverToken: {} });
    const rows = s.all('tbody tr').map(words);
    expect(rows[0]).toContain('Eva Vind never Sat 28 Nov');
    expect(rows[1]).toContain('clerk, 1 workload nobody’s 1 h ago never: issue it anew to give it an end');
    expect(rows[2]).toContain('quay-mover any mover capture, keep, prune all systems');
    await s.click('issue anew');
    await s.click(s.one('button[type=submit]'));
    expect(s.one('[role=dialog] code').textContent).toBe('lxt_anew');
    await s.click('Close');
    await s.click(s.all('tbody tr')[2]!.querySelectorAll('button')[1] as HTMLElement);
    expect(s.one('[role=dialog]').textContent).toContain('gets no answer, no task and no secret any more');
    await s.click('Withdraw it');
    expect(s.api.last('removeMoverToken')?.id).toBe(9);
    await s.click('withdraw');
    await s.click('Withdraw it');
    expect(s.api.last('removeToken')?.id).toBe(7);
  });

  it('are shown once when they are new', async () => {
    const s = await at({ addToken: { token: 'lx_secret_once' } });
    await s.click('Issue an API token');
    await s.type('input[name=name]', 'report');
    await s.click(s.one('button[type=submit]'));
    expect(s.api.last('addToken')?.body).toEqual({ name: 'report', role: 'auditor', days: 90, remit: null });
    expect(s.one('[role=dialog] code').textContent).toBe('lx_secret_once');
    await s.click('Close');
    await s.click('Issue an API token');
    expect(s.el.textContent).not.toContain('lx_secret_once');
  });
});

describe('the own account', () => {
  const account = {
    organisation: false,
    code: true,
    recoveryLeft: 2,
    passkeys: [{ id: 3, name: 'laptop', createdAt: now, usedAt: null }],
    needed: true,
    sessions: [
      { id: 'a', own: true, address: '127.0.0.1', agent: 'Mozilla/5.0 (X11; Linux x86_64) Chrome/150.0', since: now, seen: now },
      { id: 'b', own: false, address: '198.51.100.4', agent: 'curl', since: now, seen: now - hour },
    ],
  };

  it('shows how one signs in and where one is signed in, and changes it', async () => {
    const s = await open('/account', {
      answers: {
        ownAccount: account,
        changePassword: {},
        endOtherSessions: {},
        dropCode: new ApiFailure('NOT_NOW', 'Your role needs one.', undefined),
      },
    });
    expect(s.all('.session').map(words)).toEqual([
      'Chrome on Linux, here 127.0.0.1, seen just now',
      'A browser 198.51.100.4, seen 1 h ago',
    ]);
    expect(s.text()).toContain('2 recovery codes left');
    await s.type('input[name=old]', 'lanterns-at-dusk');
    await s.type('input[name=fresh]', 'nine drifting lighters');
    await s.click('Change it');
    expect(s.api.last('changePassword')?.body).toEqual({ old: 'lanterns-at-dusk', password: 'nine drifting lighters' });
    await s.click('give up');
    expect(s.text()).toContain('Your role needs one.');
    await s.click('Sign out everywhere else');
    expect(s.api.of('endOtherSessions')).toHaveLength(1);
  });
});
