import type { Notice } from '@lithodex/contract';
import { describe, expect, it } from 'vitest';
import { hour, now, open, page, words, type Stage } from '../../test/stage';
import { ApiFailure } from '../data/api';

const notice = (id: number, more: Partial<Notice> = {}): Notice => ({
  id,
  name: `Notice ${id}`,
  about: { what: 'matters', level: 'fault' },
  way: { by: 'mail', to: ['ops@kelmar.example'] },
  paused: false,
  signed: false,
  lastSent: now - hour,
  trouble: null,
  waiting: 0,
  ...more,
});
const server = {
  host: 'mail.kelmar.example',
  port: 587,
  security: 'starttls',
  account: 'lithodex',
  from: 'backup@kelmar.example',
  links: '',
  passwordKept: true,
};
const answers = (rows: Notice[] = [], more: Record<string, unknown> = {}) => ({
  listNotices: { rows },
  listMessages: { rows: [] },
  mailServer: { server },
  listPolicies: page([]),
  addNotice: { id: 9 },
  changeNotice: {},
  removeNotice: {},
  tryNotice: {},
  setMailServer: {},
  ...more,
});
const pick = async (s: Stage, label: string, value: string) => {
  await s.choose(`select[aria-label="${label}"]`, value);
};

describe('notices', () => {
  it('read as sentences, with what became of them', async () => {
    const rows = [
      notice(1),
      notice(2, {
        about: { what: 'runs', policyId: 7, outcome: 'trouble' },
        way: { by: 'webhook', url: 'https://hooks.kelmar.example' },
        signed: true,
      }),
      notice(3, {
        about: { what: 'report', report: 'growth', every: 'month', at: '06:00' },
        trouble: 'the box is full',
        waiting: 2,
        paused: true,
      }),
    ];
    const message = {
      id: 1,
      noticeId: 3,
      notice: 'Notice 3',
      subject: '<b>x</b>',
      queuedAt: now,
      sentAt: null,
      tries: 3,
      nextTry: null,
      trouble: 'full',
    };
    const s = await open('/reports/notices', { answers: answers(rows, { listMessages: { rows: [message] } }) });
    const said = s.all('article').map((a) => words(a));
    expect(said[0]).toContain('Tells of every new fault, by mail to ops@kelmar.example. Last sent 1 h ago.');
    expect(said[1]).toContain('every run that does not end well of a policy that ended, by a call to https://hooks.kelmar.example, signed');
    expect(said[2]).toContain('“What grew, and what was written”, on the first of the month at 06:00');
    expect(said[2]).toContain('2 waiting. the box is full');
    expect(words(s.one('table'))).toContain('<b>x</b> Notice 3 Mon 23 Nov 09:00 given up');
    expect(s.text()).toContain('through mail.kelmar.example:587, from backup@kelmar.example');
  });

  it('are written as a sentence', async () => {
    const s = await open('/reports/notices', { answers: answers() });
    expect(s.text()).toContain('Nobody is told of anything yet.');
    await s.click('Tell somebody');
    await s.type('input[name=name]', 'Morning');
    await pick(s, 'What', 'digest');
    await s.type('input[name=at]', '06:30');
    await s.type('input[name=to]', 'eva@kelmar.example, ops@kelmar.example');
    await s.click('Tell them from now on');
    expect(s.api.last('addNotice')?.body).toMatchObject({
      name: 'Morning',
      about: { what: 'digest', at: '06:30' },
      way: { by: 'mail', to: ['eva@kelmar.example', 'ops@kelmar.example'] },
    });
    expect(s.all('lx-notice-form')).toEqual([]);
  });

  it('keep their secret when they are changed, and what was typed beside a refusal', async () => {
    const known = notice(2, {
      about: { what: 'runs', policyId: null, outcome: 'any' },
      way: { by: 'webhook', url: 'https://a.example' },
      signed: true,
    });
    const taken = new ApiFailure('NAME_TAKEN', 'There is a notice of this name.', undefined);
    const s = await open('/reports/notices', { answers: answers([known], { changeNotice: taken }) });
    await s.click('Change');
    await pick(s, 'Outcome', 'well');
    await s.type('input[name=name]', 'Hooks');
    await s.click('Change it');
    const { body } = s.api.last('changeNotice')!;
    expect(body).toMatchObject({ name: 'Hooks', about: { what: 'runs', outcome: 'well' } });
    expect(body).not.toHaveProperty('secret');
    expect(s.one('[role=alert]').textContent).toContain('There is a notice of this name.');
    expect(s.one<HTMLInputElement>('input[name=name]').value).toBe('Hooks');
  });

  it('are tried and removed by hand, the latter in two steps', async () => {
    const s = await open('/reports/notices', { answers: answers([notice(4)]) });
    await s.click('Send a trial');
    expect(s.one('[role=status]').textContent).toContain('went out');
    s.api.answers.tryNotice = new ApiFailure('NOTICE_FAILED', 'It did not go out: no room', undefined);
    await s.click('Send a trial');
    expect(s.one('[role=status]').textContent).toContain('no room');
    await s.click('Remove');
    expect(s.api.of('removeNotice')).toEqual([]);
    await s.click('Remove it');
    expect(s.api.last('removeNotice')?.id).toBe(4);
  });

  it('go out as the administrator says', async () => {
    const s = await open('/reports/notices', { answers: answers() });
    await s.click('How mail goes out');
    expect(s.one<HTMLInputElement>('input[name=password]').placeholder).toContain('kept');
    await s.type('input[name=host]', 'smtp.kelmar.example');
    await s.click('Keep it');
    expect(s.api.last('setMailServer')?.body).toEqual({ ...server, host: 'smtp.kelmar.example', passwordKept: undefined });
  });

  it('are only read by an auditor', async () => {
    const s = await open('/reports/notices', { answers: answers([notice(1)]), role: 'auditor' });
    expect(s.all('button')).toEqual([]);
  });
});
