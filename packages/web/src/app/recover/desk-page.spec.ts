import { describe, expect, it } from 'vitest';
import { estate, point, run, uuid, workload, workloadDetail } from '../../test/samples';
import { day, hour, now, open, page, words } from '../../test/stage';

const facts = {
  kind: 'tenant' as const,
  type: 'person' as const,
  login: 'ragna',
  name: 'Ragna Holt',
  mail: 'ragna@kelmar.example',
  active: true,
  groups: [],
};
const ragna = workload(4, { name: 'Ragna Holt', kind: 'tenant', facts });
const item = (n: number, more: object = {}) => ({
  path: `Mail/Berth 14/${n}.eml`,
  type: 'message',
  change: 'gone',
  label: `Soundings ${n}`,
  about: 'Ivo Lind',
  folder: 'Berth 14',
  at: now - n * hour,
  size: 1000,
  differs: [],
  ...more,
});
const answer = {
  pointId: uuid(7),
  moment: now - day,
  looked: 90,
  gone: 11,
  more: 0,
  groups: [
    { from: now - day, to: now - hour, folder: 'Berth 14', together: true, items: Array.from({ length: 10 }, (_, n) => item(n)) },
    {
      from: now - day,
      to: null,
      folder: '',
      together: false,
      items: [
        item(99, {
          type: 'appointment',
          change: 'changed',
          label: 'Crane inspection',
          at: null,
          differs: [{ what: 'Begins', was: '2026-11-20T09:00:00Z', now: 'x' }],
        }),
      ],
    },
  ],
  troubles: [{ top: 'Drive', trouble: 'it does not answer' }],
};
const asked = {
  id: 3,
  workload: { id: 4, name: 'Ragna Holt' },
  by: 'ilse.holm',
  madeAt: now - day,
  endsAt: now + day,
  state: 'asked',
  note: '',
  words: 'My phone did it',
  askedAt: now - hour,
  pointId: uuid(7),
  moment: now - day,
  items: Array.from({ length: 6 }, (_, n) => ({ path: `Mail/${n}.eml`, label: `Gate passes ${n}`, folder: 'INBOX' })),
  decidedBy: '',
  why: '',
  receipt: null,
};
const answers = {
  askings: { rows: [] },
  estate: estate([ragna, workload(5)]),
  workload: workloadDetail([point(7, now - day - hour), point(8, now - hour)], { id: 4, name: 'Ragna Holt', kind: 'tenant', facts }),
  deskLook: answer,
  listRuns: page([run(1, { kind: 'restore', name: 'Letters', by: 'somebody else' })]),
  startRestore: { runId: 12, request: null },
};

describe('the restore desk', () => {
  it('shows what went together first, ticked, and says what it could not look at', async () => {
    const s = await open('/recover/desk?person=4', { answers });
    expect(s.api.last('deskLook')?.body).toEqual({ workloadId: 4, at: now - day - hour, about: '', tops: [] });
    const text = words(s.one('section[aria-label="What was there, and is not now"]'));
    expect(text).toContain('11 of 90 items');
    expect(text).toContain('10 items gone together, all from Berth 14');
    expect(text).toContain('and 2 more');
    expect(text).toContain('Drive: it does not answer');
    expect(words(s.one('section[aria-label="Bring back"]'))).toContain('Bring back 10');
    expect(words(s.one('section[aria-label="Mine"]'))).toContain('Nothing was brought back yet');
  });

  it('brings back what is ticked to where it was, with a reason', async () => {
    const s = await open('/recover/desk?person=4&part=mail&about=berth', { answers });
    expect(s.api.last('deskLook')?.body).toMatchObject({ about: 'berth', tops: ['Mail'] });
    await s.click('Bring back');
    expect(s.api.of('startRestore')).toEqual([]);
    await s.type('input[name=reason]', 'the phone did it');
    await s.click('Bring back');
    const body = s.api.last('startRestore')?.body as { picks: unknown[] };
    expect(body).toMatchObject({ destination: { to: 'original' }, rule: 'leave', reason: 'the phone did it' });
    expect(body.picks).toHaveLength(10);
    expect(s.url()).toBe('/runs/12');
  });

  it('leads on to earlier points where nothing is missing', async () => {
    const nothing = { ...answer, gone: 0, groups: [], moment: now - hour };
    const s = await open('/recover/desk?person=4', { answers: { ...answers, deskLook: nothing } });
    const text = words(s.one('lx-missing-list'));
    expect(text).toContain('is missing now. Look at');
    await s.click(s.one('lx-missing-list .pad button'));
    expect(s.url()).toContain(`at=${now - day - hour}`);
  });

  it('has the person told by mail where that is wished', async () => {
    const s = await open('/recover/desk?person=4', { answers: { ...answers, tellPerson: {} } });
    await s.type('input[name=reason]', 'the phone did it');
    s.one<HTMLInputElement>('input[name=tell]').click();
    await s.settle();
    await s.click('Bring back');
    expect(s.api.last('tellPerson')?.body).toEqual({ runId: 12 });
  });

  it('sends a link to whoever can not say what is missing, and says where it leads', async () => {
    const sent = { id: 3, path: '/own?link=lxa_x', until: now + day, trouble: '' };
    const s = await open('/recover/desk?person=4', { answers: { ...answers, sendAsking: sent } });
    await s.click('Send Ragna Holt a link');
    await s.type('input[name=note]', 'You called');
    await s.click('Send it');
    expect(s.api.last('sendAsking')?.body).toEqual({ workloadId: 4, hours: 72, note: 'You called' });
    const said = words(s.one('section[aria-label="Asked for"]'));
    expect(said).toContain('Sent to ragna@kelmar.example');
    expect(said).toContain('/own?link=lxa_x');
  });

  it('shows what people ask for, to be agreed to or not', async () => {
    const s = await open('/recover/desk', {
      answers: { ...answers, askings: { rows: [asked] }, agreeToAsking: { runId: 5 }, refuseAsking: {} },
    });
    const said = words(s.one('section[aria-label="Asked for"]'));
    expect(said).toContain('“My phone did it”');
    expect(said).toContain('and 1 more');
    await s.click('Bring back 6');
    expect(s.api.last('agreeToAsking')).toMatchObject({ id: 3, body: { askedAt: now - hour, rule: 'leave' } });
    await s.click('Say no');
    await s.type('input[name=why]', 'They are to be gone');
    await s.click('Say no');
    expect(s.api.last('refuseAsking')).toMatchObject({ id: 3, body: { askedAt: now - hour, why: 'They are to be gone' } });
  });
});
