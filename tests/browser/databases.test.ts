import path from 'node:path';
import { setTimeout as pause } from 'node:timers/promises';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { violationsInBothThemes } from '../support/accessible';
import { Visitor } from '../support/browser';
import { Harness, passwords, policyFor, type Client } from '../support/harness';
import { ProtectedDatabase } from '../support/protected-database';

let h: Harness;
let eva: Visitor;
let admin: Client;
let db: ProtectedDatabase;
let targetId: string;
const done = () => eva.page.waitForFunction(() => /done|remarks/.test(document.querySelector('.state')?.textContent ?? ''));

beforeAll(async () => {
  h = await Harness.start({ webDir: path.resolve('packages/web/dist/browser') });
  admin = await h.withToken('administrator');
  ({ targetId } = await h.connect(admin));
  db = await ProtectedDatabase.start(`${h.folder}/protected`);
  db.run(`CREATE DATABASE tariffs; USE tariffs; CREATE TABLE tariff (id INT PRIMARY KEY, cents INT); INSERT INTO tariff SELECT seq, seq FROM seq_1_to_1200;
    CREATE TABLE booking (id INT PRIMARY KEY AUTO_INCREMENT, berth INT); INSERT INTO booking (berth) VALUES (7);`);
  eva = await Visitor.arrive(h.base);
  await eva.signIn('administrator', passwords.administrator);
}, 60_000);
afterAll(async () => {
  await eva.leave();
  await h.stop();
  await db.stop();
});

describe('a database server, in the browser', () => {
  it('is connected after its rights were looked at', async () => {
    await eva.open('/estate');
    await eva.press('Connect …');
    await eva.press('Connect a database server');
    await eva.type('Name', 'berths-a');
    await eva.type('Host', '127.0.0.1');
    await eva.type('Port', String(db.port));
    await eva.type('Account', 'visitor');
    await eva.type('Password', 'gulls over the mole');
    await eva.press('Test the connection');
    await eva.sees('This is missing to read it: SHOW VIEW, TRIGGER, EVENT');
    await eva.sees('to read triggers: without it they are left out and nobody is told: missing');
    await eva.type('Account', 'keeper');
    await eva.press('Test the connection');
    await eva.sees('with 1 database');
    expect(await violationsInBothThemes(eva)).toEqual([]);
    await eva.press('Connect');
    await eva.page.waitForFunction(() => /\/estate\/\d+$/.test(location.pathname));
    await eva.sees('There is no point yet');
  });

  it('is protected by a sentence with a full and a log', async () => {
    const id = Number(eva.address.pathname.split('/').at(-1));
    const body = policyFor([id], targetId);
    const rule = { ...body.rules[0]!, schedule: { every: 'hand' as const } };
    const rules = [
      { ...rule, no: 1, kind: 'full' as const },
      { ...rule, no: 2, kind: 'log' as const, keep: { by: 'days' as const, days: 14 } },
    ];
    const { id: policy } = await admin.call('addPolicy', { body: { ...body, name: 'Bookings', rules } });
    await eva.open(`/policies/${policy}`);
    await eva.sees('to reach any second of');
    await eva.sees('a log that reaches back 14 days');
    const run = async (rule: number) => admin.ended((await admin.call('runPolicy', { id: policy, body: { rule } })).runId);
    await run(1);
    await run(2);
    await pause(1100);
    db.run('USE tariffs; INSERT INTO booking (berth) VALUES (8)');
    await pause(1100);
    db.run('USE tariffs; DELETE FROM tariff; INSERT INTO booking (berth) VALUES (9)');
    await pause(1100);
    await run(2);
  });

  it('shows where one can go back to, and brings a table back as it was right before it was emptied', async () => {
    await eva.open('/estate');
    await eva.press('berths-a');
    await eva.press('Back to a second');
    await eva.sees('Where one can go back to');
    const [gone] = (await admin.call('databaseBand', { id: Number(eva.address.pathname.split('/')[2]) })).notable;
    expect(gone!.statement).toBe('DELETE FROM tariff');
    await eva.sees('DELETE FROM tariff');
    const link = await eva.page.waitForSelector('.notable button');
    await link!.click();
    await eva.sees('to right before this one');
    await eva.sees('comes after');
    expect(eva.address.searchParams.get('commit')).toBe(`${gone!.file}@${gone!.position}`);
    await eva.sees('Bring back tariff as it was right before the commit of');
    await eva.sees('The full of');
    expect(await violationsInBothThemes(eva)).toEqual([]);
    await eva.type('what happened', 'the import emptied it');
    await eva.press('Bring it back');
    await done();
    const beside = db
      .run("SELECT table_name FROM information_schema.tables WHERE table_schema = 'tariffs' AND table_name LIKE 'tariff\\\\_%'")
      .trim();
    expect(db.run(`SELECT COUNT(*), SUM(cents) FROM tariffs.${beside}`).trim()).toBe('1200\t720600');
    expect(db.run('SELECT COUNT(*) FROM tariffs.tariff').trim()).toBe('0');
    expect(eva.problems).toEqual([]);
  });

  it('compares its rows with those of now, and swaps the two', async () => {
    await eva.press('Compare the rows');
    await eva.sees('tariff, now and then');
    await eva.sees('told apart by id; up to 100 of each kind');
    await eva.press('1 200 gone');
    expect(eva.address.searchParams.get('only')).toBe('gone');
    expect(await violationsInBothThemes(eva)).toEqual([]);
    await eva.press('Swap the two …');
    await eva.sees('tariff holds 1 200 rows afterwards');
    expect(await violationsInBothThemes(eva)).toEqual([]);
    await eva.type('what happened', 'the import emptied it');
    await eva.press('Swap them');
    await eva.sees('The two were swapped');
    expect(db.run('SELECT COUNT(*), SUM(cents) FROM tariffs.tariff').trim()).toBe('1200\t720600');
    expect(eva.problems).toEqual([]);
  });

  it('gives a whole database to another name, from the restore sheet', async () => {
    await eva.open('/estate');
    await eva.press('berths-a');
    await eva.sees('all tables at one instant');
    await eva.tick('Tick tariffs');
    await eva.press('Restore');
    await eva.choose('destination', 'another server or name');
    await eva.sees('Choose the server first');
    await eva.choose('server', 'berths-a');
    await eva.type('Database', 'tariffs_then');
    await eva.sees('tariffs_then on berths-a');
    await eva.type('what happened', 'to look at it');
    await eva.press('Start restore');
    await done();
    expect(db.run('SELECT COUNT(*) FROM tariffs_then.tariff').trim()).toBe('1200');
    expect(eva.problems).toEqual([]);
  });
});
