import path from 'node:path';
import { DateTime } from 'luxon';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { violationsInBothThemes } from '../support/accessible';
import { Visitor } from '../support/browser';
import { Harness, passwords, type Client } from '../support/harness';
import { ObjectStorage, objectSecret } from '../support/object-storage';

let h: Harness;
let eva: Visitor;
let admin: Client;
let storage: ObjectStorage;
let targetId: string;
const bucket = 'sonar-surveys';
const idOf = async (name: string) => (await admin.call('estate', { query: {} })).workloads.find((w) => w.name === name)!.id;
const done = () => eva.page.waitForFunction(() => /done|remarks|failed/.test(document.querySelector('.state')?.textContent ?? ''));

beforeAll(async () => {
  h = await Harness.start({ webDir: path.resolve('packages/web/dist/browser') });
  admin = await h.withToken('administrator');
  ({ targetId } = await h.connect(admin));
  storage = await ObjectStorage.start(`${h.folder}/objects`, []);
  storage.service.makeBucket(bucket, false, true);
  for (const n of [1, 2, 3]) await storage.put(bucket, `berth-14/line ${n}.son`, `soundings ${n}`);
  await storage.put(bucket, '<b onclick=alert(1)>odd</b>/../x', 'odd');
  eva = await Visitor.arrive(h.base);
  await eva.signIn('administrator', passwords.administrator);
}, 60_000);
afterAll(async () => {
  await eva.leave();
  await storage.stop();
  await h.stop();
});

describe('a bucket, in the browser', () => {
  it('is found by connecting its storage, tested right by right', async () => {
    await eva.open('/estate');
    await eva.press('Connect …');
    await eva.press('Connect an object storage');
    await eva.sees('What has to be prepared');
    for (const [name, value] of [
      ['name', 'Survey storage'],
      ['endpoint', storage.endpoint],
      ['access-key', 'keeper'],
      ['secret-key', 'wrong'],
    ] as const)
      await eva.page.type(`[name=${name}]`, value);
    await eva.page.click('[name=versions]');
    await eva.press('Test the connection');
    await eva.sees('The object storage refused the sign-in');
    await eva.type('Secret key', objectSecret);
    await eva.press('Test the connection');
    await eva.sees('the account may read what is needed');
    await eva.sees('List versions of sonar-surveys');
    expect(await violationsInBothThemes(eva)).toEqual([]);
    await eva.press('Connect');
    await eva.page.waitForFunction(() => location.pathname === '/estate');
    await eva.sees(bucket);
  });

  it('shows its points with what was asked for them, whatever its keys are', async () => {
    await admin.ended((await admin.call('protectOnce', { id: await idOf(bucket), body: { targetId } })).runId);
    await eva.open(`/estate/${await idOf(bucket)}`);
    await eva.sees('any second before it');
    await eva.sees('4 reads');
    await eva.sees('<b onclick=alert(1)>odd<');
    expect(await violationsInBothThemes(eva)).toEqual([]);
  });

  it('comes back as it was at a second, beside what is there', async () => {
    const zone = (await admin.call('me')).zone;
    const at = DateTime.now().setZone(zone);
    await new Promise((resume) => setTimeout(resume, 1100));
    await storage.put(bucket, 'berth-14/line 1.son', 'spoilt');
    await storage.remove(bucket, 'berth-14/line 2.son');
    await admin.ended((await admin.call('protectOnce', { id: await idOf(bucket), body: { targetId } })).runId);
    await eva.open(`/estate/${await idOf(bucket)}`);
    await eva.sees('2 older versions and 1 deletion');
    await eva.press('Restore everything');
    await eva.choose('destination', 'another bucket');
    await eva.type('Prefix', 'as-it-was/');
    await eva.choose('time', 'at the second');
    await eva.sees('Say which bucket, and which second, first.');
    await eva.page.$eval(
      'input[aria-label=Second]',
      (input, value) => {
        input.value = value;
        input.dispatchEvent(new Event('input', { bubbles: true }));
      },
      at.toFormat("yyyy-MM-dd'T'HH:mm:ss"),
    );
    await eva.sees(`at the end of ${at.setLocale('en-GB').toFormat('cccc d LLLL yyyy HH:mm:ss')}`);
    await eva.type('Why, kept in the audit trail', 'somebody spoilt a line');
    await eva.press('Start restore');
    await eva.page.waitForFunction(() => location.pathname.startsWith('/runs/'));
    await done();
    const back = Object.keys(await storage.described(bucket)).filter((k) => k.startsWith('as-it-was/'));
    expect(back.filter((k) => k.includes('berth-14'))).toHaveLength(3);
    const { Body } = await storage.s3.getObject({ Bucket: bucket, Key: 'as-it-was/berth-14/line 1.son' });
    expect(await Body!.transformToString()).toBe('soundings 1');
    expect(eva.problems).toEqual([]);
  });
});
