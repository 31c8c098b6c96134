import fs from 'node:fs';
import path from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { MailService } from '@lithodex/standins';
import { violationsInBothThemes } from '../support/accessible';
import { Visitor } from '../support/browser';
import { Harness, passwords, type Client } from '../support/harness';
import { appointmentOf, masterSecret, messageOf, Office } from '../support/office';

let h: Harness;
let eva: Visitor;
let admin: Client;
let office: Office;
let targetId: string;
/** Addresses that something in the browser asked for. */
const asked: string[] = [];
const when = (n: number) => new Date(1_795_000_000_000 + n * 60_000);
const done = () => eva.page.waitForFunction(() => /done|remarks/.test(document.querySelector('.state')?.textContent ?? ''));
const idOf = async (name: string) => (await admin.call('estate', { query: {} })).workloads.find((w) => w.name === name)!.id;
const protect = async (name: string) => admin.ended((await admin.call('protectOnce', { id: await idOf(name), body: { targetId } })).runId);

/** A message whose sender means no good. */
const hostile = (): Buffer => {
  const bad = 'http://127.0.0.1:9/tracked';
  const html = `<html><head><meta http-equiv="refresh" content="0;url=${bad}"><link rel=stylesheet href="${bad}.css"><base href="${bad}/"><style>@import url(${bad});body{background:url(${bad}.png)}</style></head>
<body onload="fetch('${bad}')"><script>window.top.hacked = true; fetch('${bad}')</script><img src="${bad}.gif" onerror="top.hacked=true"><img srcset="${bad} 2x">
<iframe src="${bad}"></iframe><form action="${bad}"><input autofocus onfocus="top.hacked=true"></form><svg><script>top.hacked=true</script><image href="${bad}"/></svg><a href="javascript:top.hacked=true">press</a>
<video src="${bad}" poster="${bad}"></video><p style="background:url(${bad}.jpg)">Dear Ragna, all is well.</p><object data="${bad}"></object>${'<div>'.repeat(3000)}deep${'<p>long</p>'.repeat(20_000)}</body></html>`;
  return Buffer.from(
    [
      `From: "<script>top.hacked=true</script>" <x@y.example>`,
      'Subject: <img src=x onerror=top.hacked=true> your parcel',
      'Message-ID: <bad@x>',
      'MIME-Version: 1.0',
      'Content-Type: text/html; charset=utf-8',
      '',
      html,
      '',
    ].join('\r\n'),
  );
};

beforeAll(async () => {
  h = await Harness.start({ webDir: path.resolve('packages/web/dist/browser') });
  admin = await h.withToken('administrator');
  ({ targetId } = await h.connect(admin));
  const person = (login: string, name: string) => ({ login, name, mail: `${login}@kelmar-harbour.example` });
  office = await Office.start(`${h.folder}/office`, {
    people: [person('ragna.holt', 'Ragna Holt'), person('ivo.lind', 'Ivo Lind')],
    groups: [],
  });
  await office.as('ragna.holt', async (client) => {
    await client.mailboxCreate('Dredging/Berth 14');
    for (let n = 1; n <= 4; n++) await client.append('Dredging/Berth 14', messageOf(n), ['\\Seen'], when(n));
    await client.append('INBOX', hostile(), [], when(9));
  });
  await office.makeCalendar('ragna.holt', 'work', 'Work');
  await office.dav('ragna.holt', 'PUT', 'work/1.ics', appointmentOf('one@quay', 'Crane inspection', '20261120T090000'));
  fs.writeFileSync(office.drive('ragna.holt', 'plan.txt'), 'the first plan');
  fs.mkdirSync(office.site('Handbook', 'pages'), { recursive: true });
  fs.writeFileSync(office.site('Handbook', 'pages/Fog.md'), '# Fog');
  eva = await Visitor.arrive(h.base);
  eva.page.on('request', (request) => asked.push(request.url()));
  await eva.signIn('administrator', passwords.administrator);
}, 60_000);
afterAll(async () => {
  await eva.leave();
  await h.stop();
  await office.stop();
});

describe('an office tenant, in the browser', () => {
  it('is connected service by service, with what has to be prepared for each', async () => {
    const { url } = office.service;
    await eva.open('/estate');
    await eva.press('Connect …');
    await eva.press('Connect an office tenant');
    await eva.sees('SCIM 2.0: make a token');
    const set = async (name: string, value: string) => {
      await eva.page.$eval(`[name=${name}]`, (el) => ((el as HTMLInputElement).value = ''));
      await eva.page.type(`[name=${name}]`, value);
    };
    await set('name', 'Harbour office');
    await set('people-url', `${url}/scim/v2`);
    await set('people-secret', masterSecret);
    await set('mail-host', '127.0.0.1');
    await set('mail-port', String(office.mail.port));
    await eva.choose('encryption', 'not encrypted');
    await set('mail-account', 'keeper');
    await set('mail-secret', 'wrong');
    await eva.press('Test the connection');
    await eva.sees('Authentication failed');
    await set('mail-secret', masterSecret);
    for (const [service, at] of [
      ['groupware', `http://127.0.0.1:${office.calendars.port}/{login}/`],
      ['drives', `${url}/drives/{login}/`],
      ['sites', `${url}/sites/`],
    ] as const) {
      await eva.page.click(`[name=${service}-on]`);
      await eva.page.waitForSelector(`[name=${service}-url]`);
      await set(`${service}-url`, at);
      await set(`${service}-account`, 'keeper');
      await set(`${service}-secret`, masterSecret);
    }
    await eva.press('Test the connection');
    await eva.sees('Every service answers, and the accounts may do what is needed');
    expect(await violationsInBothThemes(eva)).toEqual([]);
    await eva.press('Connect');
    await eva.page.waitForFunction(() => location.pathname === '/estate');
    await eva.sees('Ragna Holt');
    for (const name of ['Ragna Holt', 'Ivo Lind', 'Handbook']) await protect(name);
  });

  it('gives back at the desk what went together, without anybody browsing for it', async () => {
    await office.as('ragna.holt', (client) => client.mailboxDelete('Dredging/Berth 14').then(() => undefined));
    await office.dav('ragna.holt', 'PUT', 'work/1.ics', appointmentOf('one@quay', 'Crane inspection', '20261120T113000'));
    await eva.open('/recover/desk');
    await eva.choose('person', 'Ragna Holt');
    await eva.sees('4 items gone together, all from Dredging / Berth 14');
    await eva.sees('appointment, changed');
    expect(eva.address.searchParams.get('person')).toBe(String(await idOf('Ragna Holt')));
    expect(await violationsInBothThemes(eva)).toEqual([]);
    await eva.page.click('.item .label');
    await eva.press('Look into it');
    await eva.sees('Depths of the second pass');
    await eva.page.type('[name=reason]', 'Phone deleted the folder, asked at the desk');
    await eva.press('Bring back');
    await done();
    expect((await office.mailbox('ragna.holt'))['Dredging/Berth 14']).toHaveLength(4);
  });

  it('shows a hostile message without running or fetching anything', async () => {
    const { pointList } = await admin.call('workload', { id: await idOf('Ragna Holt') });
    const { rows } = await admin.call('tree', { id: pointList[0]!.id, query: { path: 'Mail/INBOX' } });
    await eva.open(
      `/estate/${await idOf('Ragna Holt')}?path=${encodeURIComponent('Mail/INBOX')}&item=${encodeURIComponent(rows[0]!.path)}`,
    );
    await eva.sees('your parcel');
    await eva.page.evaluate(() => {
      const name = [...document.querySelectorAll('td, button, a')].find((e) => e.textContent.includes('your parcel'));
      (name as HTMLElement).click();
    });
    const begun = Date.now();
    await eva.press('Look into it');
    await eva.page.waitForSelector('iframe[srcdoc]');
    const frame = await (await eva.page.$('iframe[srcdoc]'))!.contentFrame();
    await frame.waitForSelector('p');
    expect(await eva.page.evaluate(() => (window as unknown as { hacked?: boolean }).hacked)).toBeUndefined();
    const left = await eva.page.$eval('iframe[srcdoc]', (el) => el.srcdoc);
    expect(left).toContain('all is well');
    expect(left).not.toMatch(/<script|onerror|onload|javascript:|<iframe|<form|<link|http-equiv="refresh"/i);
    // it answers at once, whatever stands in the frame
    await eva.page.evaluate(() => new Promise((resume) => requestAnimationFrame(resume)));
    expect(Date.now() - begun).toBeLessThan(15_000);
    expect(asked.filter((at) => at.includes('tracked'))).toEqual([]);
  });

  it('puts a file back as its newest version, a page of a wiki, and a whole mailbox to a successor', async () => {
    const file = office.drive('ragna.holt', 'plan.txt');
    fs.writeFileSync(file, 'overwritten');
    fs.writeFileSync(office.site('Handbook', 'pages/Fog.md'), 'overwritten');
    const id = await idOf('Ragna Holt');
    const newest = async (of: number) => (await admin.call('workload', { id: of })).pointList.sort((a, b) => b.moment - a.moment)[0]!.id;
    const restore = async (pointId: string, at: string, destination: object, rule: 'replace' | 'leave') => {
      const body = {
        picks: [{ pointId, path: at }],
        destination: destination as { to: 'original' },
        rule,
        rescue: false,
        reason: 'asked by the successor',
      };
      return admin.ended((await admin.call('startRestore', { body })).runId);
    };
    await restore(await newest(id), 'Drive', { to: 'original' }, 'replace');
    expect([fs.readFileSync(file, 'utf8'), fs.readFileSync(office.service.drives.versionsOf(file)[0]!, 'utf8')]).toEqual([
      'the first plan',
      'overwritten',
    ]);
    await restore(await newest(await idOf('Handbook')), 'Files/pages', { to: 'original' }, 'replace');
    expect(fs.readFileSync(office.site('Handbook', 'pages/Fog.md'), 'utf8')).toBe('# Fog');
    await eva.open(`/estate/${id}?path=Mail`);
    await eva.press('Restore this folder');
    await eva.choose('destination', 'somebody else or another folder');
    await eva.choose('person', 'Ivo Lind');
    await eva.sees('What is there already, the same, is not brought twice');
    expect(await eva.page.$eval('[aria-label=Folder]', (el) => (el as HTMLInputElement).value)).toBe('From Ragna Holt');
    await eva.type('what happened', 'asked by the successor');
    await eva.press('Start restore');
    await done();
    expect((await office.mailbox('ivo.lind'))['From Ragna Holt/Dredging/Berth 14']).toHaveLength(4);
  });

  it('lets somebody say themselves what they miss, by a link that only they can use, and the desk agrees', async () => {
    const mail = new MailService({ folder: `${h.folder}/sent` });
    await mail.start();
    const server = { host: '127.0.0.1', port: mail.smtpPort, security: 'none' as const, account: '', password: '' };
    await admin.call('setMailServer', { body: { ...server, from: 'backup@kelmar.example', links: h.base } });
    const ragna = await Visitor.arrive(h.base);
    try {
      await office.as('ragna.holt', (client) => client.mailboxDelete('Dredging/Berth 14').then(() => undefined));
      await eva.open(`/recover/desk?person=${await idOf('Ragna Holt')}`);
      await eva.press('Send Ragna Holt a link');
      await eva.page.type('[name=note]', 'You called about your soundings.');
      await eva.press('Send it');
      await eva.sees('Sent to ragna.holt@kelmar-harbour.example');
      const link = await eva.page.$eval('.link', (el) => new URL(el.textContent).pathname + new URL(el.textContent).search);
      await ragna.open(link);
      await ragna.press('Send me a code');
      await ragna.sees('A code is on its way to r…@kelmar-harbour.example');
      expect(await violationsInBothThemes(ragna)).toEqual([]);
      await ragna.page.type('[name=code]', /^\d{6}/.exec(mail.box.list()[0]!.subject)![0]);
      await ragna.press('Go on');
      await ragna.sees('You called about your soundings.');
      await ragna.sees('4 items gone together, all from Dredging / Berth 14');
      expect(await violationsInBothThemes(ragna)).toEqual([]);
      await ragna.page.type('[name=words]', 'My phone emptied it');
      await ragna.press('Ask for these');
      await ragna.sees('You asked for 4 items');
      await eva.sees('“My phone emptied it”');
      expect(await violationsInBothThemes(eva)).toEqual([]);
      await eva.press('Bring back 4');
      await ragna.sees('4 items came back');
      expect((await office.mailbox('ragna.holt'))['Dredging/Berth 14']).toHaveLength(4);
      await ragna.press('Sign out');
      await ragna.sees('Send me a code');
      expect(ragna.problems).toEqual([]);
    } finally {
      await ragna.leave();
      await mail.stop();
    }
  });

  it('shows what differs from a point field by field, and takes it to the sheet', async () => {
    // what the hostile message was kept from is told in the console
    const before = eva.problems.length;
    const { pointList } = await admin.call('workload', { id: await idOf('Ragna Holt') });
    await office.dav('ragna.holt', 'PUT', 'work/1.ics', appointmentOf('one@quay', 'Crane inspection', '20261123T070000'));
    await eva.open(`/estate/${await idOf('Ragna Holt')}?at=${pointList[0]!.moment}&path=Calendars`);
    await eva.press('Compare with now');
    await eva.sees('1 otherwise, 0 gone, 0 new');
    await eva.sees('Begins');
    expect(await violationsInBothThemes(eva)).toEqual([]);
    await eva.press('tick all or none');
    await eva.press('Restore 1');
    await eva.page.waitForFunction(() => location.pathname === '/recover/sheet');
    expect(eva.problems.slice(before)).toEqual([]);
  });
});
