import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import type { BodyInput } from '@lithodex/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';
import { appointmentOf, cardOf, messageOf, Office } from '../support/office';

let h: Harness;
let admin: Client;
let office: Office;
let targetId: string;
let systemId: number;
let roomId: string;
const reason = 'asked at the desk';
const people = [
  { login: 'ragna.holt', name: 'Ragna Holt', mail: 'ragna.holt@kelmar-harbour.example' },
  { login: 'ivo.lind', name: 'Ivo Lind', mail: 'ivo.lind@kelmar-harbour.example' },
  { login: 'quay-desk', name: 'Quay desk', mail: 'quay@kelmar-harbour.example', shared: true },
];
const groups = [
  { name: 'dredging', members: ['ragna.holt'] },
  { name: 'port', members: ['dredging', 'ivo.lind', 'port'] },
];
const attachment = randomBytes(90_000);

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 20_000 });
  admin = await h.as('administrator');
  ({ targetId } = await h.connect(admin));
  office = await Office.start(`${h.folder}/office`, { people, groups });
  await office.as('ragna.holt', async (client) => {
    await client.mailboxCreate('Dredging/Berth 14');
    await client.mailboxCreate('Prøve "quoted" ☂');
    await client.mailboxSubscribe('Dredging/Berth 14');
    for (let n = 1; n <= 6; n++)
      await client.append(
        'Dredging/Berth 14',
        messageOf(n),
        n % 2 ? ['\\Seen'] : ['\\Flagged', 'Tide'],
        new Date(1_795_000_000_000 + n * 60_000),
      );
    await client.append('INBOX', messageOf(20, { subject: '=?utf-8?B?UHLDuHZl?=', attachment }), [], new Date(1_795_100_000_000));
    await client.append('INBOX', messageOf(20, { subject: '=?utf-8?B?UHLDuHZl?=', attachment }), [], new Date(1_795_100_000_000));
    await client.append('Sent', messageOf(21, { attachment }), ['\\Seen'], new Date(1_795_200_000_000));
    await client.append('Prøve "quoted" ☂', Buffer.from('no header at all\r\n'), [], new Date(1_795_300_000_000));
  });
  await office.makeCalendar('ragna.holt', 'work', 'Work');
  await office.makeBook('ragna.holt', 'people', 'People');
  await office.dav('ragna.holt', 'PUT', 'work/1.ics', appointmentOf('one@quay', 'Crane inspection', '20261120T090000'));
  await office.dav(
    'ragna.holt',
    'PUT',
    'work/2.ics',
    appointmentOf('two@quay', 'Tide meeting', '20261121T100000', 'RRULE:FREQ=WEEKLY;COUNT=5'),
  );
  await office.dav('ragna.holt', 'PUT', 'people/1.vcf', cardOf('card@quay', 'Pilot Sund'));
  fs.mkdirSync(office.drive('ragna.holt', 'Plans'));
  fs.writeFileSync(office.drive('ragna.holt', 'Plans/berth 14 #2.txt'), 'the first plan');
  fs.writeFileSync(office.drive('ragna.holt', '.profile'), 'hidden');
  fs.mkdirSync(office.site('Pilots handbook', 'pages'), { recursive: true });
  fs.writeFileSync(office.site('Pilots handbook', 'pages/Fog.md'), '# Fog\nSlow down.');
  roomId = office.service.chat.makeRoom('Night watch', 'Who sees what', ['@ragna.holt:kelmar-harbour.example'], 1_795_000_000_000);
  for (let n = 0; n < 700; n++)
    office.service.chat.add(
      roomId,
      '@ragna.holt:kelmar-harbour.example',
      'm.room.message',
      { msgtype: 'm.text', body: `line ${n}` },
      1_795_000_000_000 + n * 600_000,
    );
});
afterAll(async () => {
  await office.stop();
  await h.stop();
});

const rows = async () => (await admin.call('estate', { query: {} })).workloads.filter((w) => w.kind === 'tenant');
const idOf = async (name: string) => (await rows()).find((w) => w.name === name)!.id;
const protect = async (id: number) => {
  const { runId } = await admin.call('protectOnce', { id, body: { targetId } });
  return admin.ended(runId);
};
const newest = async (id: number) => (await admin.call('workload', { id })).pointList.sort((a, b) => b.moment - a.moment)[0]!;
const logOf = async (id: number) => (await admin.call('runLog', { id, query: {} })).rows;
const names = async (pointId: string, path: string) => (await admin.call('tree', { id: pointId, query: { path } })).rows.map((r) => r.name);
const restore = async (pointId: string, paths: readonly string[], more: Partial<BodyInput<'startRestore'>> = {}) => {
  const body = {
    picks: paths.map((path) => ({ pointId, path })),
    destination: { to: 'original' as const },
    rule: 'leave' as const,
    reason,
    ...more,
  };
  const { runId } = await admin.call('startRestore', { body });
  return admin.ended(runId);
};

describe('an office tenant', () => {
  it('is tested service by service, and connected with everybody in it', async () => {
    const wrong = office.body();
    const test = await admin.call('testSystem', {
      body: { body: { ...wrong, address: { ...wrong.address, mail: { ...wrong.address.mail!, account: 'nobody' } } } },
    });
    expect(test.needs.map((n) => [n.right, n.missing])).toContainEqual(['sign in to mailboxes of others', true]);
    ({ id: systemId } = await admin.call('addSystem', { body: office.body() }));
    const all = await rows();
    expect(all.map((w) => [w.name, w.facts?.kind === 'tenant' && w.facts.type]).sort()).toEqual([
      ['Ivo Lind', 'person'],
      ['Night watch', 'room'],
      ['Pilots handbook', 'site'],
      ['Quay desk', 'group'],
      ['Ragna Holt', 'person'],
    ]);
    const ragna = all.find((w) => w.name === 'Ragna Holt')!;
    expect(ragna.facts).toMatchObject({ groups: ['dredging', 'port'] });
    expect(ragna.tags).toEqual(['dredging', 'people', 'port']);
    expect(JSON.stringify(await admin.call('listSystems'))).not.toContain('lamp');
  });

  it('sends what opens a service to no other address', async () => {
    const { address, ...rest } = office.body();
    const elsewhere = {
      ...rest,
      secret: null,
      address: { ...address, drives: { ...address.drives!, url: 'http://127.0.0.1:9/{login}/' } },
    };
    await expect(admin.call('testSystem', { body: { id: systemId, body: elsewhere } })).rejects.toMatchObject({ code: 'INVALID' });
    expect(await admin.call('testSystem', { body: { id: systemId, body: { ...rest, secret: null, address } } })).toMatchObject({
      ok: true,
    });
  });

  it('gives a mailbox back byte for byte, with flags, times and folders', async () => {
    const id = await idOf('Ragna Holt');
    const first = await protect(id);
    expect(first.tasks[0]).toMatchObject({ cause: null, state: 'done' });
    const point = await newest(id);
    expect(point.facts).toMatchObject({ kind: 'tenant', counts: { messages: 10, appointments: 2, contacts: 1, files: 2 } });
    expect(await names(point.id, '')).toEqual(['Calendars', 'Contacts', 'Drive', 'Mail']);
    expect((await names(point.id, 'Mail/INBOX'))[0]).toContain('Prøve · Ivo Lind');
    const before = await office.mailbox('ragna.holt');
    await office.as('ragna.holt', async (client) => {
      await client.mailboxDelete('Dredging/Berth 14');
      await client.mailboxDelete('Prøve "quoted" ☂');
      for (const at of ['INBOX', 'Sent']) {
        const lock = await client.getMailboxLock(at);
        await client.messageDelete('1:*', { uid: true });
        lock.release();
      }
    });
    const run = await restore(point.id, ['Mail']);
    expect(run.tasks[0]).toMatchObject({ cause: null, state: 'done' });
    expect(await office.mailbox('ragna.holt')).toEqual(before);
    expect((await logOf(run.id)).map((l) => l.message)).toContain('Dredging/Berth 14: 0 → 6 messages, 6 brought back');
    // everything is there now: nothing comes twice, and of two that are alike only the one that is missing
    await office.as('ragna.holt', async (client) => {
      const lock = await client.getMailboxLock('INBOX');
      await client.messageDelete('1', { uid: false });
      lock.release();
    });
    await restore(point.id, ['Mail', 'Mail/INBOX']);
    expect(await office.mailbox('ragna.holt')).toEqual(before);
  });

  it('reads only what changed, and takes a renamed folder for what it is', async () => {
    const id = await idOf('Ragna Holt');
    await protect(id);
    const before = await newest(id);
    await office.as('ragna.holt', async (client) => {
      await client.mailboxRename('Dredging/Berth 14', 'Dredging/Berth 15');
      await client.append('INBOX', messageOf(30), [], new Date(1_795_400_000_000));
      const lock = await client.getMailboxLock('Sent');
      await client.messageFlagsAdd('1:*', ['\\Answered']);
      lock.release();
    });
    const run = await protect(id);
    expect((await logOf(run.id)).map((l) => [l.code, l.message])).toContainEqual(['FOLDER_RENAMED', 'it was Dredging/Berth 14']);
    const after = await newest(id);
    expect(after.id).not.toBe(before.id);
    expect(after.read).toBe(messageOf(30).length);
    expect((await names(after.id, 'Mail/Dredging/Berth 15')).length).toBe(6);
    const nothing = await protect(id);
    expect(nothing.tasks[0]).toMatchObject({ state: 'done' });
    expect((await newest(id)).read).toBe(0);
  });

  it('gives appointments and contacts back as they were, also where they were changed', async () => {
    const id = await idOf('Ragna Holt');
    const point = await newest(id);
    const read = async () => [
      (await office.dav('ragna.holt', 'GET', 'work/1.ics')).text,
      (await office.dav('ragna.holt', 'GET', 'work/2.ics')).text,
      (await office.dav('ragna.holt', 'GET', 'people/1.vcf')).text,
    ];
    const [one, two, card] = await read();
    await office.dav('ragna.holt', 'PUT', 'work/1.ics', appointmentOf('one@quay', 'Crane inspection', '20261120T113000'));
    await office.dav('ragna.holt', 'DELETE', 'people/1.vcf');
    const left = await restore(point.id, ['Calendars']);
    expect(left.tasks[0]).toMatchObject({ cause: null });
    expect((await read())[0]).toContain('T113000');
    await restore(point.id, ['Calendars', 'Contacts'], { rule: 'replace', rescue: false });
    const again = await read();
    const lines = (text: string) =>
      text
        .split(/\r?\n/)
        .filter((l) => !/^(DTSTAMP|PRODID|REV)/.test(l))
        .sort();
    expect(lines(again[0]!)).toEqual(lines(one!));
    expect(lines(again[1]!)).toEqual(lines(two!));
    const all = await office.dav('ragna.holt', 'GET', 'people/');
    expect(lines(all.text)).toEqual(lines(card!));
  });

  it('puts a file of a drive back as its newest version, and a page of a site beside', async () => {
    const id = await idOf('Ragna Holt');
    const point = await newest(id);
    const file = office.drive('ragna.holt', 'Plans/berth 14 #2.txt');
    fs.writeFileSync(file, 'overwritten by mistake');
    await restore(point.id, ['Drive/Plans'], { rule: 'replace', rescue: false });
    expect(fs.readFileSync(file, 'utf8')).toBe('the first plan');
    const [version] = office.service.drives.versionsOf(file);
    expect(fs.readFileSync(version!, 'utf8')).toBe('overwritten by mistake');
    const site = await idOf('Pilots handbook');
    await protect(site);
    const page = office.site('Pilots handbook', 'pages/Fog.md');
    fs.writeFileSync(page, 'gone');
    const of = await newest(site);
    expect(await names(of.id, 'Files/pages')).toEqual(['Fog.md']);
    await restore(of.id, ['Files/pages/Fog.md'], { rule: 'beside' });
    expect(fs.readFileSync(page, 'utf8')).toBe('gone');
    const beside = fs.readdirSync(office.site('Pilots handbook', 'pages')).find((n) => n.startsWith('Fog (as of'));
    expect(fs.readFileSync(office.site('Pilots handbook', `pages/${beside}`), 'utf8')).toBe('# Fog\nSlow down.');
  });

  it('keeps a conversation day by day and brings it back as a room of its own', async () => {
    const id = await idOf('Night watch');
    await protect(id);
    const first = await newest(id);
    const days = await names(first.id, 'Chat');
    const said700 = Array.from({ length: 700 }, (_, n) => new Date(1_795_000_000_000 + n * 600_000).toISOString().slice(0, 10));
    expect(days).toEqual([...new Set(said700)].map((day) => `${day}.jsonl`));
    office.service.chat.add(
      roomId,
      '@ragna.holt:kelmar-harbour.example',
      'm.room.message',
      { msgtype: 'm.text', body: 'later' },
      1_795_000_000_000 + 700 * 600_000,
    );
    await protect(id);
    const second = await newest(id);
    expect([second.added, second.changed, second.removed]).toEqual([0, 1, 0]);
    const rooms = office.service.chat.roomIds.length;
    const run = await restore(second.id, ['Chat']);
    expect(run.tasks[0]).toMatchObject({ cause: null });
    expect(office.service.chat.roomIds.length).toBe(rooms + 1);
    const said = (room: string) =>
      office.service.chat
        .eventsOf(room)
        .filter((e) => e.type === 'm.room.message')
        .map((e) => [e.sender, e.origin_server_ts, e.content]);
    expect(said(office.service.chat.roomIds.at(-1)!)).toEqual(said(roomId));
  });

  it('has a part read more often by a rule of its own: the others stay as they were read last, and points hold everything', async () => {
    const [id, site] = [await idOf('Ragna Holt'), await idOf('Pilots handbook')];
    const { rules, ...body } = policyFor([id, site], targetId);
    const all = { ...rules[0]!, no: 1 };
    const mail = { ...all, no: 2, parts: ['Mail' as const] };
    const { id: policyId } = await admin.call('addPolicy', { body: { ...body, name: 'Mail more often', rules: [all, mail] } });
    const run = async (rule: number) => admin.ended((await admin.call('runPolicy', { id: policyId, body: { rule } })).runId);
    const facts = async () => {
      const point = await newest(id);
      if (point.facts?.kind !== 'tenant') throw new Error('no facts');
      return { ...point.facts, pointId: point.id, moment: point.moment };
    };
    await run(1);
    const whole = await facts();
    expect(whole.readAt).toEqual({});

    for (const n of [71, 72]) {
      await office.as('ragna.holt', (client) => client.append('INBOX', messageOf(n), [], new Date()));
      fs.writeFileSync(office.drive('ragna.holt', `Plans/late ${n}.txt`), 'more');
      const ended = await run(2);
      // a site has no mail
      expect(ended.tasks.map((t) => [t.workload?.name, t.state])).toEqual([['Ragna Holt', 'done']]);
      const part = await facts();
      expect(part.counts).toEqual({ ...whole.counts, messages: whole.counts.messages + n - 70 });
      // as of when they were read, not of the point that they were taken over from
      expect(part.readAt).toEqual({ Calendars: whole.moment, Contacts: whole.moment, Drive: whole.moment });
      expect(await names(part.pointId, 'Drive/Plans')).toEqual(await names(whole.pointId, 'Drive/Plans'));
    }

    const part = await facts();
    fs.rmSync(office.drive('ragna.holt', 'Plans/berth 14 #2.txt'));
    expect((await restore(part.pointId, ['Drive/Plans/berth 14 #2.txt'])).tasks[0]).toMatchObject({ state: 'done', cause: null });
    expect(fs.existsSync(office.drive('ragna.holt', 'Plans/berth 14 #2.txt'))).toBe(true);
    await run(1);
    const again = await facts();
    expect(again.readAt).toEqual({});
    expect(await names(again.pointId, 'Drive/Plans')).toEqual(expect.arrayContaining(['late 71.txt', 'late 72.txt']));
  });

  it('is read whole by such a rule while the point before is none to go on from', async () => {
    const id = await idOf('Ivo Lind');
    const { rules, ...body } = policyFor([id], targetId);
    const mail = { ...rules[0]!, parts: ['Mail' as const] };
    const { id: policyId } = await admin.call('addPolicy', { body: { ...body, name: 'Mail of Ivo', rules: [mail] } });
    const run = async () => admin.ended((await admin.call('runPolicy', { id: policyId, body: {} })).runId);
    const readAt = async () => {
      const { facts } = await newest(id);
      return facts?.kind === 'tenant' ? facts.readAt : null;
    };
    // the first of them has nothing to leave as it was
    fs.writeFileSync(office.drive('ivo.lind', 'first.txt'), 'one');
    await run();
    expect(await readAt()).toEqual({});
    expect(await names((await newest(id)).id, 'Drive')).toContain('first.txt');
    await run();
    expect(await readAt()).toHaveProperty('Drive');
    await admin.call('changePolicy', { id: policyId, body: { ...body, name: 'Mail of Ivo', rules: [mail], exclude: ['*.tmp'] } });
    await run();
    expect(await readAt()).toEqual({});
  });

  it('hands what somebody who left had to a successor, below a folder of its own', async () => {
    const id = await idOf('Ragna Holt');
    const point = await newest(id);
    const before = await office.mailbox('ragna.holt');
    office.service.directory = { people: people.slice(1), groups };
    office.mail.setPeople({ 'ivo.lind': { password: 'tide table 7' }, 'quay-desk': { password: 'tide table 7' } });
    await admin.call('readSystem', { id: systemId });
    const { workloads: left } = await admin.call('estate', { query: { show: 'gone' } });
    expect(left.map((w) => w.name)).toEqual(['Ragna Holt']);
    const refused = admin.call('planRestore', { body: { picks: [{ pointId: point.id, path: '' }], destination: { to: 'original' } } });
    await expect(refused).rejects.toMatchObject({ code: 'INVALID' });
    const workloadId = await idOf('Ivo Lind');
    const run = await restore(point.id, [''], { destination: { to: 'member', workloadId, below: 'From Ragna Holt' } });
    expect(run.tasks[0]).toMatchObject({ cause: null, state: 'done' });
    const now = await office.mailbox('ivo.lind');
    expect(now['From Ragna Holt/INBOX']).toEqual(before['INBOX']);
    expect(now['From Ragna Holt/Dredging/Berth 15']).toEqual(before['Dredging/Berth 15']);
    expect(fs.readFileSync(office.drive('ivo.lind', 'From Ragna Holt/Plans/berth 14 #2.txt'), 'utf8')).toBe('the first plan');
  });
});
