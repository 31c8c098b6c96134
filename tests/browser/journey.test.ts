import { execFileSync } from 'node:child_process';
import fs from 'node:fs';
import path from 'node:path';
import { MailService } from '@lithodex/standins';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Visitor } from '../support/browser';
import { Harness, passwords, type Client } from '../support/harness';

let h: Harness;
let eva: Visitor;
let admin: Client;
let source: string;

beforeAll(async () => {
  h = await Harness.start({ webDir: path.resolve('packages/web/dist/browser') });
  admin = await h.withToken('administrator');
  await h.moverReady();
  source = `${h.folder}/quay-1`;
  fs.mkdirSync(`${source}/plans/north`, { recursive: true });
  fs.writeFileSync(`${source}/plans/north/mole.txt`, 'first version');
  fs.writeFileSync(`${source}/plans/<img src=x onerror=alert(1)>.txt`, 'hostile name');
  for (let i = 0; i < 30; i++) fs.writeFileSync(`${source}/plans/sheet-${i}.txt`, `sheet ${i}`);
  eva = await Visitor.arrive(h.base);
});
afterAll(async () => {
  await eva.leave();
  await h.stop();
});

const lastRun = async () => (await admin.call('listRuns', { query: { limit: 1 } })).rows[0]!;

describe('from nothing to a restored file, in the browser', () => {
  it('refuses a wrong password where it was typed, and lets the right one in', async () => {
    await eva.open('/watch');
    await eva.type('Name', 'administrator');
    await eva.type('Password', 'wrong');
    await eva.press('Sign in');
    await eva.sees('Name or password is wrong');
    await eva.type('Password', passwords.administrator);
    await eva.press('Sign in');
    await eva.sees('Nothing was due last night');
    expect(eva.address.pathname).toBe('/watch');
  });

  it('adds a target', async () => {
    await eva.press('Storage');
    await eva.sees('There is no target yet');
    await eva.press('Add a target');
    await eva.type('Name', 'quay-disk');
    await eva.type('Folder on the mover', `${h.folder}/store`);
    await eva.press('Test it');
    await eva.sees('The mover can write there');
    await eva.keys('Enter');
    await eva.press('Add');
    await eva.sees('All points at full size');
  });

  it('connects a folder after testing it', async () => {
    await eva.keys('g', 'e');
    await eva.sees('Nothing is connected yet');
    await eva.press('Connect …');
    await eva.press('Connect a source');
    await eva.type('Name', 'quay-1');
    await eva.type('Folder on the mover', '/does/not/exist');
    await eva.press('Test the connection');
    await eva.sees('There is no such folder on the mover');
    await eva.type('Folder on the mover', source);
    await eva.type('Place', 'Server room');
    await eva.type('Tags', 'room: server-room');
    await eva.press('Test the connection');
    await eva.sees('Everything looked at can be read');
    await eva.press('Connect');
    await eva.sees('no policy matches it');
  });

  it('writes a policy in sentences and sees its consequences first', async () => {
    await eva.open('/policies/new');
    await eva.sees('It matches no workload, so it protects nothing');
    await eva.type('Name of the policy', 'Server room, nightly');
    await eva.choose('tag', 'room: server-room');
    await eva.sees('1 workload matches now');
    await eva.sees('14 days × 1 run a day = 14 points');
    await eva.choose('retention', '30 days');
    await eva.sees('30 days × 1 run a day = 30 points');
    await eva.choose('rhythm', 'few hours');
    await eva.sees('30 days × 4 runs a day = 120 points');
    await eva.sees('Putting it in force deletes nothing.');
    await eva.press('Put in force');
    await eva.page.waitForFunction(() => /\/policies\/\d+$/.test(location.pathname));
    expect((await admin.call('listPolicies')).rows[0]).toMatchObject({
      body: { name: 'Server room, nightly', rules: [{ schedule: { every: 'hours', hours: 6 } }] },
    });
  });

  it('runs it now and watches it end', async () => {
    await eva.press('Run now');
    await eva.sees('point stored');
    await eva.sees('quay-1');
    await eva.page.waitForFunction(() => document.querySelector('.state')?.textContent?.includes('done'));
    await eva.type('Search the log', 'nothing like this');
    await eva.sees('The log has no such line');
    expect(eva.address.searchParams.get('q')).toBe('nothing like this');
  });

  it('walks the point by keyboard, ticks and restores what was deleted to the original place', async () => {
    fs.rmSync(`${source}/plans/north`, { recursive: true });
    fs.writeFileSync(`${source}/plans/sheet-3.txt`, 'changed since');
    await eva.open('/estate');
    await eva.press('quay-1');
    await eva.sees('Contents,');
    await eva.sees('plans');
    await eva.keys('Enter');
    await eva.sees('sheet-29.txt');
    await eva.sees('<img src=x onerror=alert(1)>.txt');
    await eva.keys('j', 'x', 'k');
    await eva.sees('Restore 1 ticked item');
    await eva.press('Restore 1 ticked item');
    await eva.sees('Nothing exists at the destination yet');
    await eva.sees('when you say why');
    await eva.type('what happened', 'folder deleted by mistake');
    await eva.press('Start restore');
    await eva.sees('every sum checked');
    expect(fs.readFileSync(`${source}/plans/north/mole.txt`, 'utf8')).toBe('first version');
    expect(await admin.ended((await lastRun()).id)).toMatchObject({ kind: 'restore', state: 'done' });
  });

  it.each([
    ['leave it as it is', 'changed since', 1],
    ['put the restored one beside it', 'changed since', 2],
    ['replace it if it is older', 'changed since', 2],
    ['replace it', 'sheet 3', 2],
  ] as const)('restores over what exists: %s', async (choice, after, copies) => {
    const run = await lastRun();
    await eva.open('/recover?q=sheet-3.txt');
    await eva.sees('sheet-3.txt');
    await eva.keys('x');
    await eva.sees('1 picked');
    await eva.press('Open the restore sheet');
    await eva.choose('if it exists', choice);
    await eva.type('what happened', 'trying the rules');
    // the point that was found stays the newest one
    if (choice.startsWith('replace')) {
      await eva.sees('first take a point of quay-1');
      await eva.page.click('input[name=rescue]');
      await eva.sees('No point is taken first');
      if (choice === 'replace it') {
        await eva.sees('Would replace what is newer than the point: 1 file');
        await eva.sees('after 2 answers');
        await eva.press('Agree');
      }
      await eva.sees('after 1 answer');
      await eva.press('Agree');
    }
    await eva.press('Start restore');
    await eva.sees('Log');
    for (let next = await lastRun(); next.id === run.id || next.endedAt === null; next = await lastRun())
      await new Promise((resume) => setTimeout(resume, 50));
    expect(fs.readFileSync(`${source}/plans/sheet-3.txt`, 'utf8')).toBe(after);
    expect(fs.readdirSync(`${source}/plans`).filter((n) => n.startsWith('sheet-3 (restored') || n === 'sheet-3.txt')).toHaveLength(copies);
  });

  it('finds an old version by name and sees it beside what is there now', async () => {
    fs.writeFileSync(`${source}/plans/north/mole.txt`, 'second version, longer');
    await admin.ended((await admin.call('runPolicy', { id: 1, body: {} })).runId);
    await eva.keys('Escape');
    await eva.open('/recover');
    await eva.type('Any part of a name', 'mole');
    await eva.sees('still there');
    await eva.press('mole.txt');
    await eva.sees('22 B');
    await eva.sees('13 B');
    expect(eva.address.searchParams.get('item')).toContain('mole.txt');
    const [newest] = (await admin.call('workload', { id: 1 })).pointList.slice(-1);
    await eva.open(`/estate/1?at=${newest!.moment - 1}&path=plans/north&item=plans/north/mole.txt`);
    await eva.sees('beside what is there now');
    await eva.sees('differs');
    await eva.sees('As of');
  });

  it('finds a pasted list of five hundred paths, says which are not there, and picks what is', async () => {
    const there = Array.from({ length: 30 }, (_, i) => `${source}/plans/sheet-${i}.txt`);
    const lines = [...there, ...Array.from({ length: 470 }, (_, i) => `/srv/elsewhere/plan-${i}.txt`)];
    await eva.open('/recover');
    await eva.press('Find a list of paths');
    await eva.page.$eval(
      'textarea',
      (field, text) => {
        field.value = text;
        field.dispatchEvent(new Event('input', { bubbles: true }));
      },
      lines.join('\n'),
    );
    await eva.press('Find 500 paths');
    await eva.sees('470');
    await eva.press('Pick the');
    await eva.sees('Open the restore sheet, ');
    await eva.page.evaluate(() => {
      sessionStorage.clear();
    });
  });

  it('downloads a folder as a tar archive', async () => {
    await eva.open('/estate/1?path=plans');
    await eva.sees('sheet-1.txt');
    await eva.press('Restore this folder');
    await eva.choose('destination', 'me, as a tar archive');
    await eva.type('what happened', 'for the archive');
    await eva.press('Start download');
    const file = await eva.download();
    const list = execFileSync('tar', ['-tf', file], { encoding: 'utf8' });
    expect(list).toContain('plans/north/mole.txt');
    expect(list.split('\n').filter((l) => l.includes('sheet-'))).toHaveLength(31);
    await eva.sees('done');
  });
});

describe('around the work', () => {
  it('finds anything with Ctrl K and lists the keys with ?', async () => {
    await eva.open('/watch');
    await eva.sees('Needs a person');
    await eva.page.keyboard.down('Control');
    await eva.keys('k');
    await eva.page.keyboard.up('Control');
    await eva.page.waitForSelector('#lx-hits');
    await eva.page.keyboard.type('mole');
    await eva.sees('quay-1: plans/north');
    await eva.keys('Escape');
    await eva.page.waitForFunction(() => !document.querySelector('#lx-hits'));
    await eva.page.keyboard.type('?');
    await eva.sees('step the moment to the point before, after');
    await eva.keys('Escape');
  });

  it('protects by a rule, changes the policy, and reads the calendar', async () => {
    await eva.open('/policies/new');
    await eva.type('Name of the policy', 'Month end');
    await eva.type('source quay-*', 'tag "room: s');
    await eva.sees('"room: server-room"');
    await eva.keys('ArrowDown', 'Enter', 'Tab');
    await eva.sees('1 workload matches now');
    await eva.type('name test-*', 'name quay-*');
    await eva.keys('Tab');
    await eva.sees('It matches no workload, so it protects nothing');
    await eva.type('name test-*', 'name test-*');
    await eva.keys('Tab');
    await eva.sees('1 workload matches now');
    await eva.choose('rhythm', 'month');
    await eva.choose('day of the month', 'the last day');
    await eva.choose('window', 'only from 22:00 to 06:00');
    await eva.sees('Putting it in force deletes nothing.');
    await eva.press('Put in force');
    await eva.page.waitForFunction(() => /\/policies\/\d+$/.test(location.pathname));
    await eva.sees('as it was first written down');
    await eva.choose('retention', '30 days');
    await eva.sees('kept: 14 days → 30 days');
    await eva.press('Put in force');
    await eva.page.waitForFunction(() => location.pathname === '/policies');
    await eva.press('Calendar');
    await eva.sees('The next 24 hours');
    await eva.sees('Month end');
    await eva.keys('ArrowRight');
    await eva.page.waitForFunction(() => location.search.includes('day='));
    const { rows } = await admin.call('listPolicies');
    const made = rows.find((p) => p.body.name === 'Month end')!;
    expect(made.body).toMatchObject({
      rule: 'tag "room: server-room"',
      except: 'name test-*',
      rules: [{ schedule: { on: { day: 31 } }, keep: { days: 30 } }],
    });
    await eva.open(`/policies/${made.id}`);
    await eva.press('Another rule');
    await eva.sees('8.6 weeks × 1 run a week');
    await eva.press('Put in force');
    await eva.page.waitForFunction(() => location.pathname === '/policies');
    await eva.sees('Every Sunday at 22:00, a full, kept for 60 days');
    await eva.open(`/policies/${made.id}`);
    await eva.press('Run now');
    await eva.press('Every Sunday at 22:00, a full');
    await eva.page.waitForFunction(() => /\/runs\/\d+$/.test(location.pathname));
    await eva.sees('backup, full');
    await admin.ended(Number(eva.address.pathname.split('/').at(-1)));
    await admin.call('removePolicy', { id: made.id });
  });

  it('keeps filters in the address, so that a link shows the same', async () => {
    await eva.open('/runs?kinds=restore,download&states=done');
    await eva.sees('fit');
    const { total } = await admin.call('listRuns', { query: { kinds: 'restore,download', states: 'done' } });
    await eva.sees(`${total} fit`);
    await eva.type('Filter by name', 'no such run');
    await eva.sees('No run fits these filters');
    expect(eva.address.search).toContain('q=no');
  });

  it('tells somebody by mail, and the mail arrives', async () => {
    const mail = new MailService({ folder: `${h.folder}/mail` });
    await mail.start();
    try {
      await eva.open('/reports');
      await eva.sees('Success of backups, by policy');
      await eva.press('Notices');
      await eva.press('How mail goes out');
      await eva.type('Server', '127.0.0.1');
      await eva.type('Port', String(mail.smtpPort));
      await eva.pick('security', 'none');
      await eva.type('Sent from', 'backup@kelmar.example');
      await eva.press('Keep it');
      await eva.sees(`Mail goes out through 127.0.0.1:${mail.smtpPort}, not encrypted`);
      await eva.press('Tell somebody');
      await eva.type('Name', 'The office');
      await eva.pick('what', 'runs');
      await eva.pick('outcome', 'any');
      await eva.type('Addresses', 'office@kelmar.example');
      await eva.press('Tell them from now on');
      await eva.sees('Tells of every run of any policy, by mail to office@kelmar.example');
      await eva.press('Send a trial');
      await eva.sees('The message of trial went out.');
      expect(mail.box.list()[0]).toMatchObject({ subject: 'Trial of “The office”', to: ['office@kelmar.example'] });
      await eva.press('Remove');
      await eva.press('Remove it');
      await eva.sees('Nobody is told of anything yet');
    } finally {
      await mail.stop();
    }
  });

  it('takes a matter on, notes something and puts it off', async () => {
    fs.mkdirSync(`${h.folder}/unwatched`);
    await admin.call('addSource', { body: { name: 'unwatched', folder: `${h.folder}/unwatched` } });
    await eva.open('/watch');
    await eva.sees('unwatched is unprotected');
    await eva.press('More about: unwatched');
    await eva.press('I take it on');
    await eva.sees('administrator has it.');
    await eva.press('More about: unwatched');
    await eva.press('Note something');
    await eva.type('Note', 'waits for its policy');
    await eva.press('Keep the note');
    await eva.sees('“waits for its policy”');
    await eva.press('More about: unwatched');
    await eva.press('Put it off for a week');
    await eva.sees('1 put off');
  });

  it('shows every place in the dark theme without an error', async () => {
    await eva.page.evaluate(() => {
      localStorage.setItem('lx-theme', 'dark');
    });
    for (const place of [
      '/watch',
      '/estate',
      '/policies',
      '/policies/1',
      '/runs',
      '/runs/1',
      '/policies/calendar',
      '/recover',
      '/recover/sheet',
      '/storage',
      '/runs/movers',
      '/reports?report=growth',
      '/reports/notices',
      '/trust',
      '/trust/acts',
    ]) {
      await eva.open(place);
      await eva.page.waitForSelector('h1, .lead, input.title');
      expect(await eva.page.evaluate(() => document.documentElement.dataset['bsTheme'])).toBe('dark');
    }
    await eva.sees('Audit trail');
    await eva.press('Check the chain');
    await eva.sees('the chain is whole');
  });

  it('shows a clerk the remit only and nothing that may not be used', async () => {
    await h.server.deps
      .db('person')
      .where({ name: 'clerk' })
      .update({ remit: JSON.stringify([1]) });
    const ilse = await Visitor.arrive(h.base);
    try {
      await ilse.signIn('clerk', passwords.clerk);
      await ilse.sees('quay-1');
      const text = await ilse.text();
      for (const word of ['Policies', 'Storage', 'Trust', 'Connect …']) expect(text).not.toContain(word);
      await ilse.open('/estate/1?path=plans');
      await ilse.press('Restore this folder');
      await ilse.sees('where they came from');
      await ilse.press('destination:');
      expect(await ilse.text()).not.toContain('another folder on the mover');
      expect(ilse.problems).toEqual([]);
    } finally {
      await ilse.leave();
    }
  });

  it('met no error on the way', () => {
    expect(eva.problems).toEqual([]);
  });
});
