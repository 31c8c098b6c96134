import { createHmac } from 'node:crypto';
import fs from 'node:fs';
import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import type { BodyInput } from '@lithodex/contract';
import { MailService } from '@lithodex/standins';
import { DateTime } from 'luxon';
import { afterAll, beforeAll, beforeEach, describe, expect, it, vi } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';

const zone = 'Europe/Oslo';
const clock = { at: DateTime.fromISO('2027-03-01T08:00', { zone }).toMillis(), now: () => clock.at };
const account = { name: 'lithodex', password: 'a secret of the mail server' };
const hookSecret = 'a secret of the hook';
let h: Harness;
let admin: Client;
let mail: MailService;
let hook: Server;
let policyId: number;
let source: string;
const calls: { signature: string | undefined; body: string }[] = [];
let hookStatus = 200;

beforeAll(async () => {
  h = await Harness.start({ clock, schedulerMs: 0 });
  admin = await h.as('administrator');
  mail = new MailService({ folder: `${h.folder}/mail`, account });
  await mail.start();
  hook = createServer((req, res) => {
    let body = '';
    req.on('data', (part: Buffer) => (body += part.toString()));
    req.on('end', () => {
      calls.push({ signature: req.headers['x-lithodex-signature'] as string | undefined, body });
      res.writeHead(hookStatus).end();
    });
  });
  await new Promise<void>((done) => hook.listen(0, '127.0.0.1', done));
  await admin.call('setMailServer', {
    body: {
      host: '127.0.0.1',
      port: mail.smtpPort,
      security: 'none',
      account: account.name,
      password: account.password,
      from: 'backup@kelmar.example',
      links: 'https://backup.kelmar.example',
    },
  });
  const { workloadId, targetId, source: folder } = await h.connect(admin);
  source = folder;
  fs.writeFileSync(`${source}/log`, 'tide');
  policyId = (await admin.call('addPolicy', { body: policyFor([workloadId], targetId) })).id;
});
afterAll(async () => {
  await mail.stop();
  hook.close();
  await h.stop();
});
beforeEach(async () => {
  for (const { id } of (await admin.call('listNotices')).rows) await admin.call('removeNotice', { id });
  mail.switches.refuses = false;
  hookStatus = 200;
  calls.length = 0;
});

const byMail: BodyInput<'addNotice'>['way'] = { by: 'mail', to: ['ops@kelmar.example', 'eva@kelmar.example'] };
const byHook = (): BodyInput<'addNotice'>['way'] => ({ by: 'webhook', url: `http://127.0.0.1:${(hook.address() as AddressInfo).port}/in` });
const tell = (
  about: BodyInput<'addNotice'>['about'],
  way: BodyInput<'addNotice'>['way'] = byMail,
  more: Partial<BodyInput<'addNotice'>> = {},
) => admin.call('addNotice', { body: { name: 'Ops', about, way, ...more } });
const subjects = () => mail.box.list().map((m) => m.subject);
/** Lets the scheduler queue and send, until `check` holds. */
const told = (check: () => void | Promise<void>) =>
  vi.waitFor(
    async () => {
      clock.at += 61_000;
      await h.tick();
      await check();
    },
    { timeout: 60_000, interval: 60 },
  );
async function run(): Promise<number> {
  const { runId } = await admin.call('runPolicy', { id: policyId, body: {} });
  await admin.ended(runId);
  return runId;
}

describe('notices by mail', () => {
  it('tell of a run that ended long before anybody looked for the first time', async () => {
    await h.server.deps.db('setting').where({ name: 'notices-runs-until' }).delete();
    await tell({ what: 'runs', policyId, outcome: 'well' });
    const before = subjects().length;
    await run();
    clock.at += 40 * 60_000;
    await told(() => {
      expect(subjects()).toHaveLength(before + 1);
    });
  });

  it('tell of runs that end, once, and only of those they are about', async () => {
    await run();
    clock.at += 1000;
    await tell({ what: 'runs', policyId, outcome: 'well' });
    await tell({ what: 'runs', policyId: null, outcome: 'trouble' }, byMail, { name: 'Trouble' });
    const before = subjects().length;
    const runId = await run();
    await told(() => {
      expect(subjects()).toHaveLength(before + 1);
    });
    const [first] = mail.box.list();
    expect(first).toMatchObject({
      subject: 'Server room: done',
      to: ['ops@kelmar.example', 'eva@kelmar.example'],
      from: 'backup@kelmar.example',
    });
    expect(first?.text).toContain(`https://backup.kelmar.example/runs/${runId}`);
    fs.renameSync(source, `${source}-away`);
    await run();
    fs.renameSync(`${source}-away`, source);
    await told(() => {
      expect(subjects()).toHaveLength(before + 2);
    });
    expect(mail.box.list()[0]?.subject).toBe('Server room: failed');
    expect(mail.box.list()[0]?.text).toContain('quay-1: failed.');
    for (let i = 0; i < 3; i++) await told(() => undefined);
    expect(subjects()).toHaveLength(before + 2);
  });

  it('tell of a matter when it comes up, not again while it lasts', async () => {
    await tell({ what: 'matters', level: 'fault' });
    const before = subjects().length;
    fs.renameSync(source, `${source}-away`);
    await run();
    await run();
    fs.renameSync(`${source}-away`, source);
    // the same cause as in the test before is the same matter, unless it was settled meanwhile
    await h.server.deps.db('matter').delete();
    await told(() => {
      expect(subjects()).toHaveLength(before + 1);
    });
    expect(subjects()[0]).toBe('quay-1 was not protected');
    await told(() => undefined);
    expect(subjects()).toHaveLength(before + 1);
  });

  it('tell the morning once a day, and reports with their rows', async () => {
    const { id } = await tell({ what: 'digest', at: '07:00' });
    const before = subjects().length;
    await told(() => undefined);
    expect(subjects()).toHaveLength(before);
    clock.at = DateTime.fromISO('2027-03-02T07:00', { zone }).toMillis();
    await told(() => {
      expect(subjects()).toHaveLength(before + 1);
    });
    expect(subjects()[0]).toMatch(/^Tue 2 Mar: \d of \d protected, \d+ matters?$/);
    await told(() => undefined);
    expect(subjects()).toHaveLength(before + 1);
    await admin.call('changeNotice', {
      id,
      body: { name: 'Ops', about: { what: 'report', report: 'success', every: 'week', at: '06:00' }, way: byMail },
    });
    clock.at = DateTime.fromISO('2027-03-08T06:00', { zone }).toMillis();
    await told(() => {
      expect(subjects()).toHaveLength(before + 2);
    });
    const [report] = mail.box.list();
    expect(report?.subject).toBe('Success of backups, by policy, Mon 1 Mar to Mon 8 Mar');
    expect(report?.attachments[0]?.text).toMatch(/^Policy,Went well \(share of 1\),[^]*Server room,0\.\d+/);
  });

  it('wait and are tried again where the server refuses, which is a matter meanwhile', async () => {
    mail.switches.refuses = true;
    const { id } = await tell({ what: 'runs', policyId, outcome: 'any' });
    const before = subjects().length;
    await run();
    await told(async () => {
      expect((await admin.call('listNotices')).rows[0]).toMatchObject({
        waiting: 1,
        trouble: 'The mail server does not take the message.',
      });
    });
    const found = (await admin.call('watch')).matters.find((m) => m.id === `notice-${id}`);
    expect(found).toMatchObject({ title: '“Ops” reaches nobody', action: { link: '/reports/notices' } });
    mail.switches.refuses = false;
    await told(() => {
      expect(subjects()).toHaveLength(before + 1);
    });
    expect((await admin.call('listMessages')).rows[0]).toMatchObject({ notice: 'Ops', trouble: null, nextTry: null });
    expect((await admin.call('watch')).matters.some((m) => m.id === `notice-${id}`)).toBe(false);
  });

  it('give up after a day', async () => {
    mail.switches.refuses = true;
    await tell({ what: 'runs', policyId, outcome: 'any' });
    await run();
    await told(async () => {
      expect((await admin.call('listMessages')).rows[0]?.tries).toBe(1);
    });
    clock.at += 25 * 3_600_000;
    await told(async () => {
      expect((await admin.call('listMessages')).rows[0]).toMatchObject({ tries: 2, nextTry: null, sentAt: null });
    });
  });

  it('are not sent during a pause, nor is what happened in it afterwards', async () => {
    const body = { name: 'Ops', about: { what: 'runs' as const, policyId, outcome: 'any' as const }, way: byMail };
    const { id } = await admin.call('addNotice', { body: { ...body, paused: true } });
    const before = subjects().length;
    await run();
    await told(() => undefined);
    clock.at += 1000;
    await admin.call('changeNotice', { id, body });
    await told(() => undefined);
    await told(() => undefined);
    expect(subjects()).toHaveLength(before);
  });
});

describe('notices by webhook', () => {
  it('are signed with a secret that nobody is told', async () => {
    const { id } = await tell({ what: 'runs', policyId, outcome: 'any' }, byHook(), { secret: hookSecret });
    await run();
    await told(() => {
      expect(calls).toHaveLength(1);
    });
    const { body, signature } = calls[0]!;
    expect(signature).toBe(`sha256=${createHmac('sha256', hookSecret).update(body).digest('hex')}`);
    expect(JSON.parse(body)).toMatchObject({
      notice: 'Ops',
      subject: 'Server room: done',
      data: { kind: 'run', state: 'done', workloads: 1 },
    });
    const shown = JSON.stringify([
      await admin.call('listNotices'),
      await admin.call('mailServer'),
      await admin.call('audit', { query: {} }),
    ]);
    expect(shown).not.toMatch(new RegExp(`${hookSecret}|${account.password}`));
    const rows = JSON.stringify([await h.server.deps.db('notice').select(), await h.server.deps.db('setting').select()]);
    expect(rows).not.toMatch(new RegExp(`${hookSecret}|${account.password}`));
    // another address must not get what was signed for this one
    await admin.call('changeNotice', {
      id,
      body: { name: 'Ops', about: { what: 'digest', at: '07:00' }, way: { by: 'webhook', url: `${(byHook() as { url: string }).url}2` } },
    });
    expect((await admin.call('listNotices')).rows[0]?.signed).toBe(false);
  });

  it('are tried at once by hand, and tell what stood in the way', async () => {
    const { id } = await tell({ what: 'digest', at: '07:00' }, byHook());
    await admin.call('tryNotice', { id });
    expect(JSON.parse(calls[0]!.body)).toMatchObject({ subject: 'Trial of “Ops”', data: { kind: 'trial' } });
    hookStatus = 500;
    await expect(admin.call('tryNotice', { id })).rejects.toMatchObject({
      code: 'NOTICE_FAILED',
      message: expect.stringContaining('does not take the message'),
    });
    hookStatus = 302;
    await expect(admin.call('tryNotice', { id })).rejects.toMatchObject({ code: 'NOTICE_FAILED' });
  });
});

describe('what notices refuse', () => {
  it.each([
    ['an address that is none', { way: { by: 'mail', to: ['ops'] } }],
    ['a line break in an address', { way: { by: 'mail', to: ['ops@kelmar.example\r\nBcc: x@y.example'] } }],
    ['another protocol', { way: { by: 'webhook', url: 'file:///etc/passwd' } }],
    ['a short secret', { way: { by: 'webhook', url: 'http://x.example' }, secret: 'short' }],
    ['a time that is none', { about: { what: 'digest', at: '7:00' } }],
  ])('%s', async (_what, part) => {
    const body = { name: 'Ops', about: { what: 'digest', at: '07:00' }, way: byMail, ...part } as BodyInput<'addNotice'>;
    await expect(admin.call('addNotice', { body })).rejects.toMatchObject({ code: 'INVALID' });
    expect((await admin.call('listNotices')).rows).toEqual([]);
  });

  it('a name that is taken, and a policy that is not there', async () => {
    await tell({ what: 'digest', at: '07:00' });
    await expect(tell({ what: 'digest', at: '08:00' })).rejects.toMatchObject({ code: 'NAME_TAKEN' });
    await expect(tell({ what: 'runs', policyId: 999, outcome: 'any' }, byMail, { name: 'x' })).rejects.toMatchObject({ code: 'NOT_FOUND' });
  });

  it('a wrong password of the mail server, in words', async () => {
    const { server } = await admin.call('mailServer');
    const { passwordKept, ...rest } = server!;
    expect(passwordKept).toBe(true);
    await admin.call('setMailServer', { body: { ...rest, password: 'wrong' } });
    const { id } = await tell({ what: 'digest', at: '07:00' });
    await expect(admin.call('tryNotice', { id })).rejects.toMatchObject({
      code: 'NOTICE_FAILED',
      message: expect.stringContaining('does not let the account in'),
    });
    // the password does not go along to another server
    await admin.call('setMailServer', { body: { ...rest, host: 'localhost' } });
    expect((await admin.call('mailServer')).server?.passwordKept).toBe(false);
  });
});
