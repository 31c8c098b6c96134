import fs from 'node:fs';
import type { Answered } from '@lithodex/contract';
import { MailService, OrganisationService } from '@lithodex/standins';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { Client, Harness, Refused } from '../support/harness';
import { messageOf, Office } from '../support/office';
import { comeByOrganisation } from '../support/organisation-visit';

let h: Harness;
let admin: Client;
let clerk: Client;
let office: Office;
let mail: MailService;
let organisation: OrganisationService;
let targetId: string;
const ids = new Map<string, number>();
const address = (login: string) => `${login}@kelmar-harbour.example`;
const at = (n: number) => new Date(1_795_000_000_000 + n * 60_000);

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 20_000 });
  admin = await h.as('administrator');
  ({ targetId } = await h.connect(admin));
  office = await Office.start(`${h.folder}/office`, {
    people: [
      { login: 'ragna.holt', name: 'Ragna Holt', mail: address('ragna.holt') },
      { login: 'ivo.lind', name: 'Ivo Lind', mail: address('ivo.lind') },
    ],
    groups: [],
  });
  await office.as('ragna.holt', async (client) => {
    for (let n = 1; n <= 4; n++) await client.append('INBOX', messageOf(n, { subject: `Gate passes ${n}` }), [], at(n));
  });
  await office.as('ivo.lind', (client) => client.append('INBOX', messageOf(30, { subject: 'Of nobody else' }), [], at(30)));
  fs.writeFileSync(office.drive('ragna.holt', 'plan.txt'), 'the plan');
  await admin.call('addSystem', { body: office.body() });
  for (const w of (await admin.call('estate', { query: {} })).workloads) ids.set(w.name, w.id);
  for (const name of ['Ragna Holt', 'Ivo Lind']) {
    const { runId } = await admin.call('protectOnce', { id: ids.get(name)!, body: { targetId } });
    await admin.ended(runId);
  }
  await h.server.deps
    .db('person')
    .where({ role: 'clerk' })
    .update({ remit: JSON.stringify([ids.get('Ragna Holt')]) });
  clerk = await h.as('clerk');
  mail = new MailService({ folder: `${h.folder}/sent` });
  await mail.start();
  const server = { host: '127.0.0.1', port: mail.smtpPort, security: 'none' as const, account: '', password: '' };
  await admin.call('setMailServer', { body: { ...server, from: 'backup@kelmar.example', links: 'https://backup.kelmar.example' } });
  organisation = new OrganisationService({
    clientId: 'lithodex',
    clientSecret: 'between the two',
    redirects: [`${h.base}/api/v1/session/organisation/back`],
    members: ['ragna.holt', 'ivo.lind'].map((name) => ({ name, display: name, password: 'fish', groups: [], mail: address(name) })),
  });
  await organisation.start();
});
afterAll(async () => {
  await organisation.stop();
  await mail.stop();
  await office.stop();
  await h.stop();
});

const fresh = () => new Client(() => h.base);
const codeOf = (call: Promise<unknown>) =>
  call.then(
    () => 'OK',
    (e: unknown) => (e instanceof Refused ? e.code : e),
  );
const mailsTo = (login: string) => mail.box.list().filter((m) => m.to.includes(address(login)));
const codeIn = (login: string) => /^\d{6}/.exec(mailsTo(login)[0]!.subject)![0];
const send = async (hours = 72) => {
  const sent = await clerk.call('sendAsking', {
    body: { workloadId: ids.get('Ragna Holt')!, hours, note: 'You called about your passes.' },
  });
  return { ...sent, link: sent.path.replace('/own?link=', '') };
};
const enter = async (link: string) => {
  const person = fresh();
  await person.call('ownCode', { body: { link } });
  await person.enter({ link, code: codeIn('ragna.holt') });
  return person;
};
const forget = () => h.server.deps.db('sign_in_failure').delete();
/** Takes messages out of a mailbox, for good. */
const lose = (uids: string) =>
  office.as('ragna.holt', async (client) => {
    const lock = await client.getMailboxLock('INBOX');
    await client.messageDelete(uids, { uid: true });
    lock.release();
  });
const chosen = (found: Answered<'ownLook'>) => ({ pointId: found.pointId, paths: found.groups.flatMap((g) => g.items.map((i) => i.path)) });
const receiptOf = (client: Client) =>
  vi.waitFor(
    async () => {
      const own = await client.call('own');
      const receipt = own.asking?.receipt ?? own.receipts[0];
      expect(receipt?.at).toBeTruthy();
      return receipt!;
    },
    { timeout: 60_000, interval: 200 },
  );

describe('the link of the desk', () => {
  it('lets the person look for what they miss, the desk agrees, and a receipt says what came back', async () => {
    await lose('1:2');
    const { link, trouble } = await send();
    expect(trouble).toBe('');
    const [letter] = mailsTo('ragna.holt');
    expect(letter!.text).toContain(`https://backup.kelmar.example/own?link=${link}`);
    expect(letter!.text).toContain('You called about your passes.');
    const person = fresh();
    expect(await person.call('ownCode', { body: { link } })).toEqual({ to: 'r…@kelmar-harbour.example' });
    const own = await person.enter({ link, code: codeIn('ragna.holt') });
    expect(own).toMatchObject({ name: 'Ragna Holt', asking: { state: 'sent', by: 'clerk' }, receipts: [] });
    const found = await person.call('ownLook', { body: { at: Date.now() } });
    expect(found.groups.flatMap((g) => g.items.map((i) => i.label)).sort()).toEqual(['Gate passes 1', 'Gate passes 2']);
    const [one] = chosen(found).paths;
    const ask = (paths: string[]) => person.call('ownAsk', { body: { pointId: found.pointId, paths, words: 'My phone did it' } });
    await ask([one!]);
    const { askedAt: shown } = (await clerk.call('askings')).rows[0]!;
    await ask(chosen(found).paths);
    expect(await codeOf(person.call('ownRestore', { body: { ...chosen(found), words: 'I can not wait' } }))).toBe('NOT_ALLOWED');
    const [row] = (await clerk.call('askings')).rows;
    expect(row).toMatchObject({ state: 'asked', words: 'My phone did it', workload: { name: 'Ragna Holt' } });
    expect(row!.items.map((i) => i.folder)).toEqual(['INBOX', 'INBOX']);
    expect(row!.items[0]!.label).toMatch(/Gate passes \d/);
    // what the clerk saw is not what is asked for any more
    const old = { id: row!.id, body: { askedAt: shown! } };
    expect(await codeOf(clerk.call('agreeToAsking', old))).toBe('NOT_NOW');
    expect(await codeOf(clerk.call('refuseAsking', { ...old, body: { ...old.body, why: 'no need' } }))).toBe('NOT_NOW');
    const [first, second] = await Promise.allSettled(
      [clerk, admin].map((who) => who.call('agreeToAsking', { id: row!.id, body: { askedAt: row!.askedAt! } })),
    );
    expect([first!.status, second!.status].sort()).toEqual(['fulfilled', 'rejected']);
    expect(await receiptOf(person)).toMatchObject({ state: 'done', items: 2, failed: 0, problems: [] });
    expect((await office.mailbox('ragna.holt'))['INBOX']).toHaveLength(4);
    expect(await codeOf(ask([one!]))).toBe('NOT_NOW');
    await vi.waitFor(() => {
      expect(mailsTo('ragna.holt')[0]!.subject).toBe('2 items came back');
    }, 30_000);
    expect(mailsTo('ragna.holt')[0]!.text).toContain('Gate passes 1');
    await person.call('ownEnd');
    expect(await codeOf(person.call('own'))).toBe('NOT_SIGNED_IN');
  });

  it('is worth nothing to whoever it was sent on to', async () => {
    const { link } = await send();
    const stranger = fresh();
    await stranger.call('ownCode', { body: { link } });
    const right = codeIn('ragna.holt');
    for (let n = 0; n < 5; n++)
      expect(await codeOf(stranger.enter({ link, code: String((Number(right) + n + 1) % 1_000_000).padStart(6, '0') }))).toBe(
        'CODE_REFUSED',
      );
    // after five tries not even the right one
    expect(await codeOf(stranger.enter({ link, code: right }))).toBe('CODE_REFUSED');
    const results = await Promise.all(Array.from({ length: 8 }, () => codeOf(stranger.call('ownCode', { body: { link } }))));
    expect(results).toContain('TOO_MANY_TRIES');
    for (const name of ['own', 'me', 'estate'] as const) expect(await codeOf(stranger.call(name))).toBe('NOT_SIGNED_IN');
    await forget();
    await admin.call('setOrganisation', {
      body: { name: 'Kelmar', issuer: organisation.address, clientId: 'lithodex', clientSecret: 'between the two', groups: [] },
    });
    const other = await comeByOrganisation(h.base, 'ivo.lind', 'fish', `?own=${link}`);
    expect(other.page).toContain('/own?');
    expect(other.page).toContain('not%20for%20you');
    expect(await codeOf(other.client.call('own'))).toBe('NOT_SIGNED_IN');
    const herself = await comeByOrganisation(h.base, 'ragna.holt', 'fish', `?own=${link}`);
    expect(await herself.client.call('own')).toMatchObject({ name: 'Ragna Holt', asking: { state: 'sent' } });
    expect((await comeByOrganisation(h.base, 'ragna.holt', 'fish', '?own=')).page).toContain('by%20themselves');
  });

  it('ends by itself, and when the desk takes it back, also for who is in already', async () => {
    const { link, id } = await send();
    const person = await enter(link);
    await clerk.call('withdrawAsking', { id });
    expect(await codeOf(person.call('own'))).toBe('NOT_SIGNED_IN');
    expect(await codeOf(person.call('ownLook', { body: { at: Date.now() } }))).toBe('NOT_SIGNED_IN');
    expect(await codeOf(fresh().call('ownCode', { body: { link } }))).toBe('CODE_REFUSED');
    const short = await send(1);
    const second = await enter(short.link);
    await h.server.deps
      .db('asking')
      .where({ id: short.id })
      .update({ ends_at: Date.now() - 1 });
    expect(await codeOf(second.call('own'))).toBe('NOT_SIGNED_IN');
    expect(await codeOf(fresh().call('ownCode', { body: { link: short.link } }))).toBe('CODE_REFUSED');
    expect((await clerk.call('askings')).rows.find((r) => r.id === short.id)!.state).toBe('ended');
  });

  it('opens nothing but one’s own, and the desk says no with a reason', async () => {
    await lose('3');
    const { link, id } = await send();
    const person = await enter(link);
    const others = (await admin.call('workload', { id: ids.get('Ivo Lind')! })).pointList[0]!;
    const theirs = (await admin.call('tree', { id: others.id, query: { path: 'Mail/INBOX' } })).rows[0]!.path;
    const words = 'looking around';
    expect(await codeOf(person.call('ownAsk', { body: { pointId: others.id, paths: [theirs], words } }))).toBe('OUTSIDE_REMIT');
    const found = await person.call('ownLook', { body: { at: Date.now() } });
    for (const path of ['../../etc/passwd', 'Mail/INBOX/none.eml', theirs])
      expect(await codeOf(person.call('ownAsk', { body: { pointId: found.pointId, paths: [path], words } }))).toMatch(/INVALID|NOT_FOUND/);
    for (const [name, options] of [
      ['estate', {}],
      ['listRuns', {}],
      ['events', {}],
      ['tree', { id: found.pointId, query: { path: '' } }],
      ['preview', { id: found.pointId, query: { path: chosen(found).paths[0] } }],
      ['startRestore', { body: {} }],
      ['askings', {}],
      ['agreeToAsking', { id, body: {} }],
    ] as const)
      expect([name, (await person.fetch(name, options)).status]).toEqual([name, 403]);
    expect((await person.fetch('ownAsk', { body: {}, headers: { 'x-lithodex-csrf': 'no' } })).status).toBe(403);
    expect(await codeOf(clerk.call('agreeToAsking', { id, body: { askedAt: 1 } }))).toBe('NOT_NOW');
    await person.call('ownAsk', { body: { ...chosen(found), words } });
    expect(await codeOf(clerk.call('sendAsking', { body: { workloadId: ids.get('Ivo Lind')! } }))).toBe('OUTSIDE_REMIT');
    await h.server.deps.db('person').where({ role: 'clerk' }).update({ remit: '[]' });
    expect((await clerk.call('askings')).rows).toEqual([]);
    expect(await codeOf(clerk.call('agreeToAsking', { id, body: { askedAt: 1 } }))).toBe('OUTSIDE_REMIT');
    await h.server.deps
      .db('person')
      .where({ role: 'clerk' })
      .update({ remit: JSON.stringify([ids.get('Ragna Holt')]) });
    const { askedAt } = (await clerk.call('askings')).rows.find((r) => r.id === id)!;
    await clerk.call('refuseAsking', { id, body: { askedAt: askedAt!, why: 'These are to be gone' } });
    expect((await person.call('own')).asking).toMatchObject({ state: 'refused', why: 'These are to be gone' });
    await vi.waitFor(() => {
      expect(mailsTo('ragna.holt')[0]!.text).toContain('These are to be gone');
    }, 30_000);
    expect((await office.mailbox('ragna.holt'))['INBOX']).toHaveLength(3);
  });
});

describe('people who help themselves', () => {
  it('sign in by their mailbox where that is switched on, and bring back what is their own', async () => {
    const ask = (login: string) => codeOf(fresh().call('ownCode', { body: { address: address(login) } }));
    expect(await ask('ragna.holt')).toBe('NOT_ALLOWED');
    await admin.call('setSignInRules', { body: { secondFor: [], idleMinutes: 60, selfService: true } });
    const sent = mail.box.list().length;
    expect(await fresh().call('ownCode', { body: { address: address('nobody.here') } })).toEqual({ to: 'n…@kelmar-harbour.example' });
    expect(mail.box.list()).toHaveLength(sent);
    expect(await ask('Ragna.Holt')).toBe('OK');
    await vi.waitFor(() => {
      expect(mail.box.list().length).toBe(sent + 1);
    });
    const person = fresh();
    const code = codeIn('ragna.holt');
    expect(await codeOf(person.enter({ address: address('ivo.lind'), code }))).toBe('CODE_REFUSED');
    const own = await person.enter({ address: address('ragna.holt'), code });
    expect(own.asking).toBeNull();
    expect(await codeOf(fresh().enter({ address: address('ragna.holt'), code }))).toBe('CODE_REFUSED');
    fs.rmSync(office.drive('ragna.holt', 'plan.txt'));
    const found = await person.call('ownLook', { body: { at: Date.now() } });
    const body = { ...chosen(found), words: 'I deleted it by mistake' };
    expect(await codeOf(person.call('ownAsk', { body }))).toBe('NOT_NOW');
    await person.call('ownRestore', { body });
    expect(await receiptOf(person)).toMatchObject({ state: 'done', items: 2 });
    expect(fs.readFileSync(office.drive('ragna.holt', 'plan.txt'), 'utf8')).toBe('the plan');
    // somebody else of the same name sees nothing of it
    const named = { id: ids.get('Ivo Lind')! };
    await h.server.deps.db('workload').where(named).update({ name: 'Ragna Holt' });
    await fresh().call('ownCode', { body: { address: address('ivo.lind') } });
    await vi.waitFor(() => {
      expect(mailsTo('ivo.lind')).toHaveLength(1);
    });
    const twin = await fresh().enter({ address: address('ivo.lind'), code: codeIn('ivo.lind') });
    expect([twin.name, twin.receipts]).toEqual(['Ragna Holt', []]);
    await h.server.deps.db('workload').where(named).update({ name: 'Ivo Lind' });
    expect((await office.mailbox('ragna.holt'))['INBOX']).toHaveLength(4);
    await admin.call('setSignInRules', { body: { secondFor: [], idleMinutes: 60, selfService: false } });
    expect(await codeOf(person.call('own'))).toBe('NOT_SIGNED_IN');
    const trail = (await admin.call('audit', { query: { limit: 300 } })).rows;
    expect(trail.map((r) => r.action)).toEqual(
      expect.arrayContaining([
        'own.code',
        'own.start',
        'own.refused',
        'own.end',
        'asking.send',
        'asking.ask',
        'asking.agree',
        'asking.refuse',
      ]),
    );
    expect(trail.find((r) => r.action === 'restore.start')!.actor).toBe('Ragna Holt (themselves)');
  });

  it('get an item by mail where an administrator sends it, as it is, and nobody else sends one', async () => {
    const { pointList } = await admin.call('workload', { id: ids.get('Ragna Holt')! });
    const pointId = pointList[0]!.id;
    const { rows } = await admin.call('tree', { id: pointId, query: { path: 'Mail/INBOX' } });
    const body = { path: rows[0]!.path, to: address('ivo.lind'), words: 'As you asked' };
    expect(await codeOf(clerk.call('sendItem', { id: pointId, body }))).toBe('NOT_ALLOWED');
    await admin.call('sendItem', { id: pointId, body });
    const [sent] = mailsTo('ivo.lind');
    expect(sent).toMatchObject({ text: expect.stringContaining('As you asked') });
    expect(sent!.attachments[0]!.name).toMatch(/Gate passes 1.*\.eml$/);
    expect(sent!.attachments[0]!.text).toContain('Subject: Gate passes 1');
    expect(await codeOf(admin.call('sendItem', { id: pointId, body: { ...body, path: 'Mail' } }))).toBe('MOVER_FAILED');
    expect(await codeOf(admin.call('sendItem', { id: pointId, body: { ...body, to: 'nobody' } }))).toBe('INVALID');
    const trail = (await admin.call('audit', { query: {} })).rows.find((r) => r.action === 'item.send')!;
    expect(trail.detail).toContain(address('ivo.lind'));
  });

  it('are told by mail of what the desk brought back, where it says so', async () => {
    await lose('4');
    const look = { workloadId: ids.get('Ragna Holt')!, at: Date.now(), tops: ['Mail'] };
    const found = await clerk.call('deskLook', { body: look });
    const picks = chosen(found).paths.map((path) => ({ pointId: found.pointId, path }));
    const { runId } = await clerk.call('startRestore', { body: { picks, destination: { to: 'original' }, reason: 'asked at the desk' } });
    expect(await codeOf(admin.call('tellPerson', { body: { runId } }))).toBe('NOT_ALLOWED');
    await clerk.call('tellPerson', { body: { runId } });
    await clerk.call('tellPerson', { body: { runId } });
    await clerk.call('tellPerson', { body: { runId } });
    await clerk.call('tellPerson', { body: { runId } });
    await vi.waitFor(() => {
      expect(mailsTo('ragna.holt')[0]!.subject).toBe('1 item came back');
    }, 30_000);
    expect(mailsTo('ragna.holt')[0]!.text).toContain('brought by clerk');
  });

  it('appear once, however many look for them at the same time', async () => {
    const { rows } = await admin.call('listSystems');
    const { people } = office.service.directory;
    const fresh = ['tove.lund', 'arne.moe', 'siri.dahl'].map((login) => ({ login, name: login, mail: address(login) }));
    office.service.directory = { people: [...people, ...fresh], groups: [] };
    await Promise.all([1, 2, 3, 4].map(() => admin.call('readSystem', { id: rows[0]!.id })));
    const names = (await admin.call('estate', { query: {} })).workloads.map((w) => w.name);
    for (const { name } of fresh) expect(names.filter((n) => n === name)).toHaveLength(1);
  });
});
