import { execFileSync } from 'node:child_process';
import { createHash, randomBytes } from 'node:crypto';
import fs from 'node:fs';
import path from 'node:path';
import { setTimeout as pause } from 'node:timers/promises';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { itLong } from '../support/by-command';
import { Harness, type Client } from '../support/harness';
import { messageOf, Office } from '../support/office';

let h: Harness;
let admin: Client;
let office: Office;
let targetId: string;
let id: number;
const reason = 'asked at the desk';
const login = 'ragna.holt';
const when = (n: number) => new Date(1_795_000_000_000 + n * 60_000);

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 20_000 });
  admin = await h.as('administrator');
  ({ targetId } = await h.connect(admin));
  const people = [
    { login, name: 'Ragna Holt', mail: `${login}@kelmar-harbour.example` },
    { login: 'narrow', name: 'Narrow Box', mail: 'narrow@kelmar-harbour.example' },
  ];
  office = await Office.start(`${h.folder}/office`, { people, groups: [] }, { narrow: 40_000 });
  await admin.call('addSystem', { body: office.body() });
  id = await idOf('Ragna Holt');
});
afterAll(async () => {
  await office.stop();
  await h.stop();
});

const idOf = async (name: string) => (await admin.call('estate', { query: {} })).workloads.find((w) => w.name === name)!.id;
const protect = async (of = id) => {
  const { runId } = await admin.call('protectOnce', { id: of, body: { targetId } });
  return admin.ended(runId);
};
const newest = async (of = id) => (await admin.call('workload', { id: of })).pointList.sort((a, b) => b.moment - a.moment)[0]!;
const logOf = async (run: number) => (await admin.call('runLog', { id: run, query: {} })).rows;
const restore = async (paths: readonly string[], destination: object = { to: 'original' }) => {
  const { id: pointId } = await newest();
  const body = { picks: paths.map((at) => ({ pointId, path: at })), destination: destination as { to: 'original' }, reason };
  const { runId } = await admin.call('startRestore', { body });
  return admin.ended(runId);
};

/** A longer one, and more in one folder, are looked at by hand. */
const longMb = Number(process.env['LITHODEX_MAIL_MB'] ?? 9);
const many = Number(process.env['LITHODEX_MAILS'] ?? 150);

describe('mail that is not as one would like it', () => {
  it('comes back byte for byte: long ones, broken ones, without headers, with names nobody expects', async () => {
    const long = messageOf(1, { attachment: randomBytes(longMb * 1_000_000) });
    const odd = [
      long,
      Buffer.from('Subject: no end of the headers'),
      Buffer.from('\r\nonly a body\r\n'),
      Buffer.from(`Subject: =?utf-8?B?broken\r\nContent-Type: multipart/mixed; boundary="=_x"\r\n\r\n--=_x\r\nnever ends`),
      Buffer.from(`Subject: ../../etc/passwd \u202e gnp.exe\r\nMessage-ID: <odd@x>\r\n\r\nx\r\n`),
      Buffer.from(`${Array.from({ length: 3000 }, (_, n) => `X-Line-${n}: ${n}`).join('\r\n')}\r\nSubject: many\r\n\r\nx\r\n`),
      Buffer.concat([Buffer.from('Subject: bytes\r\n\r\n'), Buffer.from([0x80, 0xff, 0xfe, 13, 10])]),
    ];
    const folders = ["it's", 'a%b', 'Ünïcode ☂', '~tilde', 'dots.in.it', 'INBOX/below', 'tail '];
    await office.as(login, async (client) => {
      for (const [n, bytes] of odd.entries()) await client.append('INBOX', bytes, [], when(n));
      for (const name of folders) {
        const made = await client.mailboxCreate(name).catch(() => undefined);
        if (made) await client.append(name, messageOf(50), ['\\Seen'], when(50));
      }
    });
    const before = await office.mailbox(login);
    expect(before['INBOX']!.some((line) => line.startsWith(createHash('sha256').update(long).digest('hex')))).toBe(true);
    expect(Object.keys(before).length).toBeGreaterThan(8);
    const run = await protect();
    expect(run.tasks[0]).toMatchObject({ cause: null, state: 'done' });
    await office.as(login, async (client) => {
      for (const { path: at } of await client.list()) {
        if (at !== 'INBOX') await client.mailboxDelete(at).catch(() => undefined);
      }
      const lock = await client.getMailboxLock('INBOX');
      await client.messageDelete('1:*', { uid: true });
      lock.release();
    });
    expect((await restore(['Mail'])).tasks[0]).toMatchObject({ cause: null, state: 'done' });
    const after = await office.mailbox(login);
    for (const [folder, lines] of Object.entries(before)) expect([folder, after[folder]]).toEqual([folder, lines]);
  });

  it('is had as a mailbox of one file, which another program reads', async () => {
    const { id: pointId } = await newest();
    const body = { picks: [{ pointId, path: 'Mail' }], destination: { to: 'download' as const, format: 'mbox' as const }, reason };
    const { runId } = await admin.call('startRestore', { body });
    const bytes = await admin.fetch('download', { id: runId }).then((r) => r.arrayBuffer());
    const file = `${h.folder}/all.mbox`;
    fs.writeFileSync(file, Buffer.from(bytes));
    const script =
      "import mailbox,sys; m=mailbox.mbox(sys.argv[1]); print(len(m)); print('\\n'.join(sorted(str(x['subject']) for x in m)))";
    const said = execFileSync('/usr/bin/python3', ['-c', script, file], { encoding: 'utf8' });
    const before = await office.mailbox(login);
    expect(Number(said.split('\n')[0])).toBe(Object.values(before).flat().length);
    expect(said).toContain('Soundings berth 50');
    const wrong = { ...body, picks: [{ pointId, path: '' }] };
    expect((await admin.call('planRestore', { body: wrong })).checks).toContainEqual(expect.objectContaining({ code: 'NOT_MAIL' }));
  });

  it('is had as a mailbox of folders and files, flags and all, which another program reads', async () => {
    const { id: pointId } = await newest();
    const body = { picks: [{ pointId, path: 'Mail' }], destination: { to: 'download' as const, format: 'maildir' as const }, reason };
    const { runId } = await admin.call('startRestore', { body });
    const answer = await admin.fetch('download', { id: runId });
    expect(answer.headers.get('content-disposition')).toContain('.tar');
    fs.writeFileSync(`${h.folder}/maildir.tar`, Buffer.from(await answer.arrayBuffer()));
    execFileSync('tar', ['-xf', `${h.folder}/maildir.tar`, '-C', h.folder]);
    const script =
      "import mailbox,sys; m=mailbox.Maildir(sys.argv[1],create=False)\nf=[m]+[m.get_folder(n) for n in m.list_folders()]\nprint(sum(len(x) for x in f)); print(sorted(m.list_folders())); print(sum('S' in y.get_flags() for x in f for y in x))";
    const said = execFileSync('/usr/bin/python3', ['-c', script, `${h.folder}/Maildir`], { encoding: 'utf8' }).split('\n');
    const before = await office.mailbox(login);
    expect(Number(said[0])).toBe(Object.values(before).flat().length);
    expect(Number(said[2])).toBe(
      Object.values(before)
        .flat()
        .filter((line) => line.includes('Seen')).length,
    );
    const bytes = fs.readdirSync(`${h.folder}/Maildir`, { recursive: true, withFileTypes: true }).filter((e) => e.isFile());
    expect(bytes.length).toBe(Number(said[0]));
  });

  it('is not read again when a server numbers its messages anew', async () => {
    await protect();
    const before = await newest();
    // the numbers of all messages go with what the server has noted
    for (const e of fs.readdirSync(office.mail.storeOf(login), { recursive: true }))
      if (path.basename(String(e)).includes('dovecot')) fs.rmSync(path.join(office.mail.storeOf(login), String(e)), { force: true });
    const run = await protect();
    expect(run.tasks[0]).toMatchObject({ cause: null });
    const after = await newest();
    expect(after.read).toBeLessThan(before.bytes / 20);
    expect([after.added, after.removed]).toEqual([0, 0]);
  });

  itLong('goes on when the mail server is started again meanwhile, and keeps what it has when a service is away', async () => {
    await office.as(login, async (client) => {
      await client.mailboxCreate('Many');
      for (let n = 100; n < 400; n++) await client.append('Many', messageOf(n), [], when(n));
    });
    const { runId } = await admin.call('protectOnce', { id, body: { targetId } });
    await office.restartMail();
    const run = await admin.ended(runId);
    expect(run.tasks[0]!.cause).toBeNull();
    const { id: pointId } = await newest();
    const many = await admin.call('tree', { id: pointId, query: { path: 'Mail/Many', limit: 500 } });
    expect(many.rows).toHaveLength(300);
    office.service.switches.broken = true;
    const without = await protect();
    office.service.switches.broken = false;
    expect(without.tasks[0]).toMatchObject({ state: 'partsMissing' });
    expect((await logOf(without.id)).map((l) => l.code)).toContain('SERVICE_UNREAD');
    expect((await newest()).complete).toBe(false);
  });

  itLong('is whole however two people change it while it is read', async () => {
    const folders = ['Steady', 'Busy A', 'Busy B'];
    await office.as(login, async (client) => {
      for (const folder of folders) await client.mailboxCreate(folder);
      for (let n = 0; n < many; n++) await client.append('Steady', messageOf(1000 + n), ['\\Seen'], when(1000 + n));
      for (let n = 0; n < 60; n++) await client.append('Busy A', messageOf(3000 + n), [], when(3000 + n));
    });
    let over = false;
    let changes = 0;
    const change = (from: string, to: string, first: number) =>
      office.as(login, async (client) => {
        for (let n = first; !over; n++, changes++) {
          await client.append(from, messageOf(n), [], when(n));
          const lock = await client.getMailboxLock(from);
          try {
            if (!client.mailbox || !client.mailbox.exists) continue;
            await client.messageFlagsAdd('*', ['\\Flagged']);
            await (n % 3 ? client.messageMove('1', to) : client.messageDelete('1'));
          } finally {
            lock.release();
          }
        }
      });
    const clients = [change('Busy A', 'Busy B', 5000), change('Busy B', 'Busy A', 7000)];
    const during = [await protect(), await protect()];
    over = true;
    await Promise.all(clients);
    expect(changes).toBeGreaterThan(10);
    for (const run of during) {
      expect(run.tasks[0]!.cause).toBeNull();
      expect(run.tasks[0]!.counts.failed).toBe(0);
    }
    const points = (await admin.call('workload', { id })).pointList.sort((a, b) => b.moment - a.moment);
    const steady = await admin.call('tree', { id: points[0]!.id, query: { path: 'Mail', limit: 500 } });
    expect(steady.rows.find((r) => r.name === 'Steady')!.items).toBe(many);
    await protect();
    const now = await office.mailbox(login);
    expect(
      (
        await restore(
          folders.map((f) => `Mail/${f}`),
          { to: 'member', workloadId: id, below: 'Check' },
        )
      ).tasks[0]!.cause,
    ).toBeNull();
    const back = await office.mailbox(login);
    for (const folder of folders) expect([folder, back[`Check/${folder}`] ?? []]).toEqual([folder, now[folder]]);
  });

  it('waits when a server asks for patience, and says so', async () => {
    fs.mkdirSync(office.drive(login, 'Plans'), { recursive: true });
    fs.writeFileSync(office.drive(login, 'Plans/a.txt'), 'a');
    office.service.switches.throttled = 2;
    const run = await protect();
    expect(run.tasks[0]).toMatchObject({ cause: null, state: 'done' });
    expect((await logOf(run.id)).map((l) => l.code)).toContain('PATIENCE');
    expect((await admin.call('tree', { id: (await newest()).id, query: { path: 'Drive/Plans' } })).rows).toHaveLength(1);
  });

  it('is refused beforehand where there is no room for it, and told item by item where it runs out', async () => {
    const workloadId = await idOf('Narrow Box');
    const { id: pointId } = await newest();
    const plan = await admin.call('planRestore', {
      body: { picks: [{ pointId, path: 'Mail' }], destination: { to: 'member', workloadId, below: 'From Ragna' } },
    });
    expect(plan.checks).toContainEqual(expect.objectContaining({ level: 'stop', code: 'NO_ROOM' }));
    office.service.switches.full = true;
    fs.rmSync(office.drive(login, 'Plans/a.txt'));
    const run = await restore(['Drive/Plans']);
    office.service.switches.full = false;
    expect(run.counts).toMatchObject({ failed: 1 });
  });

  it('says who may not be signed in for, and does not show what opens it', async () => {
    office.mail.setPeople({ narrow: { password: 'x' } });
    // the server looks at the time of the file, in seconds
    await pause(1100);
    const run = await protect();
    office.mail.setPeople({ [login]: { password: 'x' }, narrow: { password: 'x' } });
    const lines = await logOf(run.id);
    expect(lines.map((l) => l.message).join('\n')).toContain('Authorization failed');
    expect(JSON.stringify([run, lines])).not.toContain('lamp');
  });
});
