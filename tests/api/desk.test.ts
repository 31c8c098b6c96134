import fs from 'node:fs';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, Refused, type Client } from '../support/harness';
import { appointmentOf, cardOf, messageOf, Office } from '../support/office';

let h: Harness;
let admin: Client;
let clerk: Client;
let office: Office;
let targetId: string;
const ids = new Map<string, number>();
const reason = 'asked at the desk';
const at = (n: number) => new Date(1_795_000_000_000 + n * 60_000);

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 20_000 });
  admin = await h.as('administrator');
  ({ targetId } = await h.connect(admin));
  const mail = (login: string) => `${login}@kelmar-harbour.example`;
  office = await Office.start(`${h.folder}/office`, {
    people: ['ragna.holt', 'ivo.lind'].map((login) => ({
      login,
      name: login === 'ivo.lind' ? 'Ivo Lind' : 'Ragna Holt',
      mail: mail(login),
    })),
    groups: [],
  });
  await office.as('ragna.holt', async (client) => {
    await client.mailboxCreate('Dredging/Berth 14');
    for (let n = 1; n <= 5; n++) await client.append('Dredging/Berth 14', messageOf(n), ['\\Seen'], at(n));
    for (let n = 6; n <= 8; n++) await client.append('INBOX', messageOf(n, { subject: `Gate passes ${n}` }), [], at(n));
  });
  await office.as('ivo.lind', (client) => client.append('INBOX', messageOf(30, { subject: 'Nobody else reads this' }), [], at(30)));
  await office.makeCalendar('ragna.holt', 'work', 'Work');
  await office.makeBook('ragna.holt', 'people', 'People');
  await office.dav('ragna.holt', 'PUT', 'work/1.ics', appointmentOf('one@quay', 'Crane inspection', '20261120T090000'));
  await office.dav('ragna.holt', 'PUT', 'people/1.vcf', cardOf('card@quay', 'Pilot Sund'));
  fs.writeFileSync(office.drive('ragna.holt', 'plan.txt'), 'the plan');
  await admin.call('addSystem', { body: office.body() });
  for (const w of (await admin.call('estate', { query: {} })).workloads) ids.set(w.name, w.id);
  for (const name of ['Ragna Holt', 'Ivo Lind']) await protect(name);
  await h.server.deps
    .db('person')
    .where({ role: 'clerk' })
    .update({ remit: JSON.stringify([ids.get('Ragna Holt')]) });
  clerk = await h.as('clerk');
});
afterAll(async () => {
  await office.stop();
  await h.stop();
});

const protect = async (name: string) => {
  const { runId } = await admin.call('protectOnce', { id: ids.get(name)!, body: { targetId } });
  return admin.ended(runId);
};
const look = (who: Client, name: string, about = '', tops: string[] = []) =>
  who.call('deskLook', { body: { workloadId: ids.get(name)!, at: Date.now(), about, tops } });
const points = async (name: string) => (await admin.call('workload', { id: ids.get(name)! })).pointList;
const refusal = async (act: Promise<unknown>) => {
  const error = await act.then(
    () => undefined,
    (e: unknown) => e,
  );
  return error instanceof Refused ? error.status : error;
};

describe('the restore desk', () => {
  it('says what was there and is not now, by what went together, and takes nothing for missing that was moved', async () => {
    await office.as('ragna.holt', async (client) => {
      await client.mailboxDelete('Dredging/Berth 14');
      const lock = await client.getMailboxLock('INBOX');
      await client.messageMove('1', 'Trash', { uid: true });
      await client.messageDelete('2', { uid: true });
      lock.release();
    });
    await office.dav('ragna.holt', 'PUT', 'work/1.ics', appointmentOf('one@quay', 'Crane inspection', '20261120T113000'));
    await office.dav('ragna.holt', 'DELETE', 'people/1.vcf');
    fs.rmSync(office.drive('ragna.holt', 'plan.txt'));
    const found = await look(clerk, 'Ragna Holt');
    expect(found.troubles).toEqual([]);
    expect(found.groups[0]).toMatchObject({ together: true, folder: 'Dredging / Berth 14', to: null });
    expect(found.groups[0]!.items.map((i) => i.label)).toEqual([5, 4, 3, 2, 1].map((n) => `Soundings berth ${n}`));
    const singly = found.groups[1]!.items.map((i) => [i.type, i.change, i.label]);
    expect(singly).toContainEqual(['message', 'gone', 'Gate passes 7']);
    expect(singly).toContainEqual(['appointment', 'changed', 'Crane inspection']);
    expect(singly).toContainEqual(['contact', 'gone', 'Pilot Sund']);
    expect(singly).toContainEqual(['file', 'gone', 'plan.txt']);
    expect(singly.map(([, , label]) => label)).not.toContain('Gate passes 6');
    expect(found.groups[1]!.items.find((i) => i.change === 'changed')).toMatchObject({
      differs: [expect.objectContaining({ what: 'Begins', was: '2026-11-20T09:00:00', now: '2026-11-20T11:30:00' })],
    });
    const about = await look(clerk, 'Ragna Holt', 'gate passes');
    expect(about.groups.flatMap((g) => g.items.map((i) => i.label))).toEqual(['Gate passes 7']);
    expect((await look(clerk, 'Ragna Holt', '', ['Contacts'])).gone).toBe(1);
  });

  it('knows between which points something went, and asks no longer for what came back', async () => {
    await protect('Ragna Holt');
    const [newest, first] = (await points('Ragna Holt')).sort((a, b) => b.moment - a.moment);
    const body = { workloadId: ids.get('Ragna Holt')!, at: first!.moment };
    const found = await clerk.call('deskLook', { body });
    expect(found.groups[0]).toMatchObject({ from: first!.moment, to: newest!.moment });
    const picks = found.groups[0]!.items.map((i) => ({ pointId: found.pointId, path: i.path }));
    const { runId } = await clerk.call('startRestore', { body: { picks, destination: { to: 'original' }, reason } });
    expect((await clerk.ended(runId)).tasks[0]).toMatchObject({ cause: null, state: 'done' });
    expect((await office.mailbox('ragna.holt'))['Dredging/Berth 14']).toHaveLength(5);
    const after = await clerk.call('deskLook', { body });
    expect(after.groups.map((g) => g.folder)).not.toContain('Dredging / Berth 14');
  });

  it('shows a clerk a message of somebody they help, and no file, no attachment and nothing of others', async () => {
    const [point] = (await points('Ragna Holt')).sort((a, b) => a.moment - b.moment);
    const { rows } = await clerk.call('tree', { id: point!.id, query: { path: 'Mail/INBOX' } });
    const read = await clerk.call('preview', { id: point!.id, query: { path: rows[0]!.path } });
    expect(read).toMatchObject({ as: 'message', subject: 'Gate passes 6', from: 'Ivo Lind <ivo.lind@kelmar-harbour.example>' });
    const [other] = await points('Ivo Lind');
    const theirs = (await admin.call('tree', { id: other!.id, query: { path: 'Mail/INBOX' } })).rows[0]!.path;
    const pick = { pointId: point!.id, path: rows[0]!.path };
    const others = ids.get('Ivo Lind')!;
    const plan = (destination: object, pointId = pick.pointId, path = pick.path) =>
      clerk.call('startRestore', { body: { picks: [{ pointId, path }], destination: destination as { to: 'original' }, reason } });
    const attempts: [string, () => Promise<unknown>][] = [
      ['look at somebody else', () => look(clerk, 'Ivo Lind')],
      ['read somebody else', () => clerk.call('preview', { id: other!.id, query: { path: theirs } })],
      ['walk somebody else', () => clerk.call('tree', { id: other!.id, query: { path: 'Mail' } })],
      ['read a file', () => clerk.call('preview', { id: point!.id, query: { path: 'Drive/plan.txt' } })],
      ['save an attachment', () => clerk.call('attachment', { id: point!.id, query: { path: pick.path, no: 0 } })],
      ['restore somebody else', () => plan({ to: 'original' }, other!.id, theirs)],
      ['restore to somebody else', () => plan({ to: 'member', workloadId: others, below: '' })],
      ['restore below somebody else', () => plan({ to: 'member', workloadId: others, below: 'From Ragna Holt' })],
      ['download', () => plan({ to: 'download', format: 'zip' })],
      ['a folder of the mover', () => plan({ to: 'folder', folder: '/tmp/out' })],
      ['a share', () => plan({ to: 'share', shareId: 1, folder: '' })],
      ['versions of somebody else', () => clerk.call('versions', { query: { workload: others, path: theirs } })],
      ['see the workload', () => clerk.call('workload', { id: others })],
      ['connect', () => clerk.call('addSystem', { body: office.body('Other') })],
      ['the systems', () => clerk.call('listSystems')],
    ];
    for (const [what, act] of attempts)
      expect([what, await refusal(act())]).toEqual([what, expect.toSatisfy((s: unknown) => s === 403 || s === 404)]);
    expect((await clerk.call('search', { query: { q: 'Nobody else' } })).rows).toEqual([]);
    expect((await clerk.call('estate', { query: {} })).workloads.map((w) => w.name)).toEqual(['Ragna Holt']);
    const mine = await plan({ to: 'member', workloadId: ids.get('Ragna Holt')!, below: 'Found again' });
    expect((await clerk.ended(mine.runId)).tasks[0]).toMatchObject({ cause: null });
    expect((await office.mailbox('ragna.holt'))['Found again/INBOX']).toHaveLength(1);
    expect(Object.keys(await office.mailbox('ivo.lind'))).not.toContain('Found again');
    const trail = (await admin.call('audit', { query: {} })).rows.map((r) => r.action);
    expect(trail).toEqual(expect.arrayContaining(['desk.look', 'item.preview']));
  });

  it('compares a point with now field by field, also what was moved or marked, and what is new', async () => {
    const from = await protect('Ragna Holt').then(() => points('Ragna Holt'));
    const newest = from.sort((a, b) => b.moment - a.moment)[0]!;
    const compare = (body: object = {}, who = clerk) => who.call('itemChanges', { id: newest.id, body });
    expect((await compare()).counts).toEqual({ gone: 0, changed: 0, added: 0 });
    await office.as('ragna.holt', async (client) => {
      await client.append('INBOX', messageOf(50, { subject: 'Newly come' }), [], at(50));
      const lock = await client.getMailboxLock('Dredging/Berth 14');
      await client.messageMove('1', 'Trash');
      await client.messageFlagsAdd('1', ['\\Flagged']);
      lock.release();
    });
    const moved = appointmentOf('one@quay', 'Crane inspection moved', '20261121T080000');
    await office.dav('ragna.holt', 'PUT', 'work/1.ics', moved);
    await office.dav('ragna.holt', 'PUT', 'work/2.ics', appointmentOf('two@quay', 'Pilot meeting', '20261122T080000'));
    const drive = office.drive('ragna.holt', 'notes.txt');
    fs.writeFileSync(drive, 'new');
    const { counts, items, looked } = await compare();
    expect(counts).toEqual({ gone: 0, changed: 3, added: 3 });
    expect(looked).toBeGreaterThan(8);
    const differs = (label: string) => items.find((i) => i.label === label)!.differs;
    expect(differs('Crane inspection')).toEqual([
      { what: 'Title', was: 'Crane inspection', now: 'Crane inspection moved' },
      { what: 'Begins', was: '2026-11-20T11:30:00', now: '2026-11-21T08:00:00' },
    ]);
    const marks = items.filter((i) => i.change === 'changed' && i.type === 'message').flatMap((i) => i.differs);
    expect(marks).toContainEqual({ what: 'Folder', was: 'Dredging / Berth 14', now: 'Trash' });
    expect(marks).toContainEqual({ what: 'Marked', was: 'seen', now: 'flagged, seen' });
    expect(
      items
        .filter((i) => i.change === 'added')
        .map((i) => [i.type, i.label, i.path])
        .sort(),
    ).toEqual([
      ['appointment', 'Pilot meeting', ''],
      ['file', 'notes.txt', ''],
      ['message', 'Newly come', ''],
    ]);
    expect((await compare({ path: 'Calendars' })).counts).toEqual({ gone: 0, changed: 1, added: 1 });
    expect((await compare({ path: 'Mail/INBOX' })).counts).toEqual({ gone: 0, changed: 0, added: 1 });
    expect((await compare({ about: 'crane' })).counts).toEqual({ gone: 0, changed: 1, added: 0 });
    expect(await refusal(compare({ path: '../../etc' }))).toBe(400);
    // in the name of the person: where the services take their own password, and not where they do not
    const own = await compare({ own: 'tide table 7' });
    expect(own.troubles.map((t) => t.top)).toEqual(['Drive']);
    expect(own.counts).toEqual({ gone: 0, changed: 3, added: 2 });
    const wrong = await compare({ own: 'something else' });
    expect(wrong.troubles.map((t) => t.top).sort()).toEqual(['Calendars', 'Contacts', 'Drive', 'Mail']);
    const [other] = await points('Ivo Lind');
    expect(await refusal(clerk.call('itemChanges', { id: other!.id, body: {} }))).toBe(403);
    const trail = JSON.stringify((await admin.call('audit', { query: {} })).rows);
    expect(trail).toContain('desk.compare');
    expect(trail).not.toContain('tide table 7');
  });

  it('says which service it could not ask, and shows the others', async () => {
    office.service.switches.broken = true;
    const [first] = (await points('Ragna Holt')).sort((a, b) => a.moment - b.moment);
    const found = await admin.call('deskLook', { body: { workloadId: ids.get('Ragna Holt')!, at: first!.moment } });
    office.service.switches.broken = false;
    expect(found.troubles).toEqual([{ top: 'Drive', trouble: expect.stringContaining('answers 500') }]);
    expect(found.looked).toBeGreaterThan(5);
  });
});
