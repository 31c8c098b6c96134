import path from 'node:path';
import { setTimeout as pause } from 'node:timers/promises';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { violationsInBothThemes } from '../support/accessible';
import { Visitor } from '../support/browser';
import { Harness, passwords, policyFor, type Client } from '../support/harness';
import { ProtectedPostgresql } from '../support/protected-postgresql';

let h: Harness;
let eva: Visitor;
let admin: Client;
let db: ProtectedPostgresql;
let targetId: string;
let workloadId = 0;
let policyId = 0;
const done = () => eva.page.waitForFunction(() => /done|remarks/.test(document.querySelector('.state')?.textContent ?? ''));

beforeAll(async () => {
  h = await Harness.start({ webDir: path.resolve('packages/web/dist/browser') });
  admin = await h.withToken('administrator');
  ({ targetId } = await h.connect(admin));
  db = await ProtectedPostgresql.start(`${h.folder}/protected`);
  db.run('CREATE DATABASE tide');
  sql(
    `CREATE TABLE level (id int PRIMARY KEY, cm int NOT NULL); INSERT INTO level SELECT i, i FROM generate_series(1, 1200) i; CREATE VIEW high AS SELECT id FROM level WHERE cm > 1000;`,
  );
  eva = await Visitor.arrive(h.base);
  await eva.signIn('administrator', passwords.administrator);
}, 60_000);
afterAll(async () => {
  await eva.leave();
  await h.stop();
  await db.stop();
});

const sql = (text: string, database = 'tide') => db.run(text, database).trim();
const run = async (rule: number) => admin.ended((await admin.call('runPolicy', { id: policyId, body: { rule } })).runId);

describe('a PostgreSQL server, in the browser', () => {
  it('is connected after its rights were looked at', async () => {
    await eva.open('/estate');
    await eva.press('Connect …');
    await eva.press('Connect a database server');
    await eva.choose('family', 'PostgreSQL');
    expect(await eva.page.$eval('input[name=port]', (field) => field.value)).toBe('5432');
    await eva.type('Name', 'tide-db');
    await eva.type('Host', '127.0.0.1');
    await eva.type('Port', String(db.port));
    await eva.type('Account', 'visitor');
    await eva.type('Password', db.password);
    await eva.press('Test the connection');
    await eva.sees('This is missing to read it: pg_read_all_data');
    await eva.sees('to restore whole databases: missing');
    await eva.type('Account', 'keeper');
    await eva.press('Test the connection');
    await eva.sees('with 1 database.');
    await eva.sees('max_slot_wal_keep_size is -1');
    expect(await violationsInBothThemes(eva)).toEqual([]);
    await eva.press('Connect');
    await eva.page.waitForFunction(() => /\/estate\/\d+$/.test(location.pathname));
    workloadId = Number(eva.address.pathname.split('/').at(-1));
    const body = policyFor([workloadId], targetId);
    const rule = { ...body.rules[0]!, schedule: { every: 'hand' as const } };
    const rules = [
      { ...rule, no: 1, kind: 'full' as const },
      { ...rule, no: 2, kind: 'log' as const, keep: { by: 'days' as const, days: 14 } },
    ];
    policyId = (await admin.call('addPolicy', { body: { ...body, name: 'Tide', rules } })).id;
    await run(1);
    await pause(1100);
    sql('UPDATE level SET cm = 0 WHERE id = 1');
    await pause(1100);
    sql('DELETE FROM level WHERE id > 100');
    await pause(2100);
    await run(2);
  });

  it('brings a table back beside as it was right before it was emptied, compares the rows, and swaps them', async () => {
    await eva.open(`/estate/${workloadId}/second`);
    await eva.sees('Where one can go back to');
    await (await eva.page.waitForSelector('.notable button'))!.click();
    await eva.sees('to right before this one');
    await eva.sees('Bring back public.level as it was right before the commit of');
    await eva.type('what happened', 'a script removed too much');
    await eva.press('Bring it back');
    await done();
    await eva.press('Compare the rows');
    await eva.sees('1 100 gone');
    await eva.press('Swap the two …');
    await eva.type('what happened', 'a script removed too much');
    await eva.press('Swap them');
    await eva.sees('The two were swapped');
    expect(sql('SELECT count(*), sum(cm) FROM level')).toBe('1200|720599');
    expect(sql('SELECT count(*) FROM high')).toBe('200');
    expect(eva.problems).toEqual([]);
  });

  it('goes forward again: a later second into another database, with what was done since', async () => {
    await pause(1100);
    sql('UPDATE level SET cm = -5 WHERE id = 2');
    await pause(2100);
    await run(2);
    await eva.open(`/estate/${workloadId}/second?to=${(await admin.call('listSystems')).rows[0]!.id}&as=tide_then&what=tide`);
    await eva.sees('Bring back tide');
    await eva.type('what happened', 'to look at it');
    await eva.press('Bring it back');
    await done();
    expect(sql('SELECT count(*), min(cm) FROM level', 'tide_then')).toBe('1200|-5');
    expect(sql('SELECT count(*) FROM high', 'tide_then')).toBe('200');
    expect(eva.problems).toEqual([]);
  });
});
