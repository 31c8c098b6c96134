import { describe, expect, it } from 'vitest';
import { uuid } from '../../test/samples';
import { day, hour, now, show, words, type Setting } from '../../test/stage';
import { ApiFailure } from '../data/api';
import { OwnPage } from './own-page';

const item = (n: number) => ({
  path: `Mail/INBOX/${n}.eml`,
  type: 'message',
  change: 'gone',
  label: `Gate passes ${n}`,
  about: 'Ivo Lind',
  folder: 'INBOX',
  at: now - n * hour,
  size: 1000,
  differs: [],
});
const found = {
  pointId: uuid(7),
  moment: now - day,
  looked: 40,
  gone: 3,
  more: 0,
  groups: [{ from: now - day, to: null, folder: 'INBOX', together: true, items: [1, 2, 3].map(item) }],
  troubles: [],
};
const asking = {
  workload: { id: 4, name: 'Ragna Holt' },
  by: 'ilse.holm',
  madeAt: now - hour,
  endsAt: now + day,
  state: 'sent',
  note: 'You called',
  words: '',
  askedAt: null,
  pointId: null,
  moment: null,
  items: [],
  decidedBy: '',
  why: '',
  receipt: null,
};
const own = { name: 'Ragna Holt', csrf: 'x', zone: 'UTC', now, asking, moments: [now - hour, now - 2 * day], receipts: [] };
const none = new ApiFailure('NOT_SIGNED_IN', 'Sign in first.', undefined);
const come = (inputs: object, answers: Setting['answers']) =>
  show(
    OwnPage,
    { ...inputs },
    { answers: { signInWays: { organisation: null, selfService: true, nobodyYet: false }, ownLook: found, ...answers } },
  );

describe('one’s own page', () => {
  it('sends a code first, and lets nobody in without it', async () => {
    const s = await come({ link: 'lxa_0123456789abcdefghij' }, { own: none, ownCode: { to: 'r…@kelmar.example' } });
    await s.click('Send me a code');
    expect(s.api.last('ownCode')?.body).toEqual({ link: 'lxa_0123456789abcdefghij' });
    expect(s.text()).toContain('on its way to r…@kelmar.example');
    s.api.answers.ownSession = new ApiFailure('CODE_REFUSED', 'This code is not valid.', undefined);
    await s.type('input[name=code]', '123456');
    await s.click('Go on');
    expect(words(s.one('[role=alert]'))).toBe('This code is not valid.');
    s.api.answers.ownSession = own;
    await s.click('Go on');
    expect(s.api.last('ownSession')?.body).toEqual({ link: 'lxa_0123456789abcdefghij', code: '123456' });
    expect(s.text()).toContain('Ragna Holt, only you');
  });

  it('asks the desk for what is ticked, with what happened', async () => {
    const s = await come({ link: 'l' }, { own, ownAsk: {} });
    expect(s.text()).toContain('ilse.holm writes: “You called”');
    expect(s.api.last('ownLook')?.body).toEqual({ at: now - 2 * day, about: '', tops: [] });
    expect(s.button('Ask for these').disabled).toBe(true);
    await s.type('input[name=words]', 'my phone did it');
    s.api.answers.own = { ...own, asking: { ...asking, state: 'asked', words: 'my phone did it', items: found.groups[0]!.items } };
    await s.click('Ask for these');
    expect(s.api.last('ownAsk')?.body).toEqual({
      pointId: uuid(7),
      paths: [1, 2, 3].map((n) => `Mail/INBOX/${n}.eml`),
      words: 'my phone did it',
    });
    expect(words(s.one('[aria-label="What you asked for"]'))).toContain('You asked for 3 items');
  });

  it('says what came back and what did not, and offers no more once the desk has decided', async () => {
    const receipt = { runId: 9, state: 'remarks', at: now, items: 2, failed: 1, problems: [{ what: 'Mail/INBOX/3.eml', why: 'no room' }] };
    const s = await come({}, { own: { ...own, asking: { ...asking, state: 'agreed', receipt } } });
    const text = words(s.one('[aria-label="What came back"]'));
    expect(text).toContain('2 items came back, 1 did not');
    expect(text).toContain('Mail/INBOX/3.eml: no room');
    expect(s.all('lx-missing-list')).toEqual([]);
  });

  it('brings back oneself where there is no link', async () => {
    const s = await come({}, { own: { ...own, asking: null }, ownRestore: { runId: 3 } });
    await s.type('input[name=words]', 'deleted by mistake');
    await s.click('Bring these back');
    expect(s.api.last('ownRestore')?.body).toMatchObject({ words: 'deleted by mistake', rule: 'leave' });
  });

  it('asks for a link where nobody may come by themselves', async () => {
    const closed = await come({}, { own: none, signInWays: { organisation: null, selfService: false, nobodyYet: false } });
    expect(closed.text()).toContain('Ask the desk for a link');
    expect(closed.all('input')).toEqual([]);
  });
});
