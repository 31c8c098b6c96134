import type { BodyInput } from '@lithodex/contract';
import { escapePath } from '@lithodex/core';
import type { DatabaseFacts } from '@lithodex/kinds';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, type Client } from '../support/harness';
import { awkwardTide, ProtectedPostgresql } from '../support/protected-postgresql';

let h: Harness;
let admin: Client;
let db: ProtectedPostgresql;
let targetId: string;
let systemId: number;
let workloadId: number;
const name = 'tide/s%.';
const folder = 'tide~2fs%.';
const reason = 'the import job emptied it';

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 20_000 });
  admin = await h.as('administrator');
  ({ targetId } = await h.connect(admin));
  db = await ProtectedPostgresql.start(`${h.folder}/protected`);
  db.run(`CREATE DATABASE "${name}" OWNER keeper`);
  db.run('CREATE DATABASE ledger');
  db.run(awkwardTide, name);
  db.run('CREATE TABLE entry (id int PRIMARY KEY, amount int); INSERT INTO entry SELECT i, i FROM generate_series(1, 9) i', 'ledger');
});
afterAll(async () => {
  await db.stop();
  await h.stop();
});

const run = (sql: string) => db.run(sql, name).trim();
const newest = async () => (await admin.call('workload', { id: workloadId })).pointList.sort((a, b) => b.moment - a.moment)[0]!;
const protect = async () => admin.ended((await admin.call('protectOnce', { id: workloadId, body: { targetId } })).runId);
const restored = async (body: BodyInput<'startRestore'>) =>
  (await admin.ended((await admin.call('startRestore', { body })).runId)).tasks[0]!;

/** Lines that are in one text and not in the other. */
const differences = (a: string, b: string) => {
  const [of, than] = [a, b].map((text) => new Set(text.split('\n')));
  return [
    ...[...of!].filter((l) => !than!.has(l)).map((l) => `- ${l}`),
    ...[...than!].filter((l) => !of!.has(l)).map((l) => `+ ${l}`),
  ].slice(0, 20);
};

/** What differs between the table and the one put beside it is told row by row, and the two are swapped while a view needs one of them. */
async function differs(runId: number, beside: string, sums: (table: string) => string): Promise<void> {
  const { rows: tables } = await admin.call('besideTables', { id: runId });
  expect(tables).toMatchObject([{ database: name, table: 'public.gauge' }]);
  const one = { task: tables[0]!.taskId, path: tables[0]!.path };
  const compared = await admin.call('besideRows', { id: runId, query: one });
  expect(compared).toMatchObject({ key: ['id'], counts: { now: 1, then: 5, added: 1, changed: 0, gone: 5 } });
  expect(compared.rows[1]).toMatchObject({ change: 'gone', now: null });
  expect(compared.rows[1]!.then![1]).toBe('\\.');
  const [now, then] = [sums('gauge'), sums(beside)];
  const { remarks } = await admin.call('swapBeside', { id: runId, body: { ...one, reason } });
  expect(remarks).toEqual([]);
  expect([sums('gauge'), sums(beside)]).toEqual([then, now]);
  expect(run('SELECT count(*) FROM of_gauge')).toBe('5');
  await admin.call('swapBeside', { id: runId, body: { ...one, reason } });
  expect([sums('gauge'), sums(beside)]).toEqual([now, then]);
}

describe('a database server of the other family', () => {
  it('is told of what is missing to read it, and not kept while it can not be read', async () => {
    const test = await admin.call('testSystem', { body: { body: db.body('Tide', 'visitor') } });
    expect(test).toMatchObject({ ok: false, found: 2 });
    expect(test.needs.filter((n) => n.missing).map((n) => n.right)).toEqual([
      'pg_read_all_data',
      'BYPASSRLS',
      'CREATEDB',
      'REPLICATION',
      'pg_monitor',
      'SUPERUSER',
    ]);
    await expect(admin.call('addSystem', { body: db.body('Tide', 'visitor') })).rejects.toMatchObject({ code: 'CONNECTION_FAULTY' });
    const wrong = { ...db.body('Tide'), secret: 'not this one' };
    await expect(admin.call('addSystem', { body: wrong })).rejects.toMatchObject({
      message: expect.stringContaining('refused the sign-in'),
    });
  });

  it('is connected, found with its databases, and backed up as text by object', async () => {
    const made = await admin.call('addSystem', { body: db.body('Tide') });
    systemId = made.id;
    workloadId = made.workloads[0]!;
    const { facts } = await admin.call('workload', { id: workloadId });
    expect(facts).toMatchObject({ family: 'postgresql', logs: { on: true } });
    expect((facts as DatabaseFacts).databases.map((d) => d.name)).toEqual(['ledger', name]);
    const first = await protect();
    expect(first.tasks[0]).toMatchObject({ cause: null, state: 'done' });
    const point = await newest();
    expect(point).toMatchObject({ complete: true, facts: { family: 'postgresql', level: 'application', position: null } });
    const tree = async (path: string) => (await admin.call('tree', { id: point.id, query: { path } })).rows.map((r) => r.name);
    expect(await tree('')).toEqual(['accounts.sql', 'ledger', escapePath(folder)]);
    expect(await tree(escapePath(folder))).toEqual([
      'after-rows.sql',
      'before-rows.sql',
      'database.sql',
      'routines',
      'sequences',
      'tables',
      'views',
    ]);
    run("INSERT INTO gauge (name, len) VALUES ('new', 3)");
    await protect();
    const second = await newest();
    // its rows, and where its numbers stand
    expect([second.added, second.changed, second.removed]).toEqual([0, 2, 0]);
  });

  it('comes back as it was, all of it, in the place of what is there', async () => {
    const before = db.dump(name);
    const { id: pointId } = await newest();
    run(
      "DELETE FROM gauge; UPDATE level SET cm = 1; DROP VIEW a_top; DROP TABLE nothing; REFRESH MATERIALIZED VIEW means; ALTER TYPE mood ADD VALUE 'z'",
    );
    const body = {
      picks: [{ pointId, path: '' }],
      destination: { to: 'original' as const },
      rule: 'replace' as const,
      rescue: false,
      reason,
    };
    expect(await restored(body)).toMatchObject({ state: 'done', cause: null, counts: { failed: 0 } });
    expect(differences(before, db.dump(name))).toEqual([]);
    expect(run('SELECT count(*) FROM means')).toBe('4');
    expect(
      db.run(`SELECT setconfig FROM pg_db_role_setting s JOIN pg_database d ON d.oid = s.setdatabase WHERE datname = '${name}'`),
    ).toContain('5MB');
    expect(db.run("SELECT count(*) FROM pg_database WHERE datname LIKE 'lithodex%'").trim()).toBe('0');
  });

  it('comes back when everything is gone, and leaves what is there when that is asked', async () => {
    const before = db.dump(name);
    const { id: pointId } = await newest();
    db.run(`DROP DATABASE "${name}"`);
    const body = { picks: [{ pointId, path: escapePath(folder) }], destination: { to: 'original' as const }, reason };
    expect(await restored(body)).toMatchObject({ cause: null, state: 'done', counts: { failed: 0 } });
    expect(differences(before, db.dump(name))).toEqual([]);
    run(
      'DROP VIEW a_top; DROP TABLE nothing; DELETE FROM level WHERE at > 10; DROP TABLE "My Sch.ema"."Odd "" Name"; DROP SEQUENCE numbers; DROP FUNCTION noted CASCADE',
    );
    expect(await restored(body)).toMatchObject({ cause: null, state: 'done', counts: { failed: 0 } });
    expect(run('SELECT count(*) FROM level')).toBe('10');
    expect(run('SELECT count(*) FROM "My Sch.ema"."Odd "" Name"')).toBe('2');
    run('DROP MATERIALIZED VIEW means');
    const view = { ...body, picks: [{ pointId, path: escapePath(`${folder}/views/public.means.sql`) }] };
    expect(await restored(view)).toMatchObject({ cause: null, counts: { failed: 0 } });
    expect(run('SELECT count(*) > 0 FROM means')).toBe('t');
    expect(run("SELECT n FROM a_top; SELECT nextval('numbers')").split('\n')[1]).toBe('101');
  });

  it('gives one table back, in place or beside, while views and keys of others need it', async () => {
    const { id: pointId } = await newest();
    const picks = [{ pointId, path: escapePath(`${folder}/tables/public.gauge.sql`) }];
    const sums = (table: string) => run(`SELECT count(*), md5(string_agg(t::text, '|' ORDER BY id)) FROM ${table} t`);
    const whole = {
      picks: [{ pointId, path: escapePath(folder) }],
      destination: { to: 'original' as const },
      rule: 'replace' as const,
      rescue: false,
      reason,
    };
    expect(await restored(whole)).toMatchObject({ cause: null, state: 'done', counts: { failed: 0 } });
    const wanted = sums('gauge');
    run("CREATE VIEW of_gauge AS SELECT name FROM gauge; TRUNCATE gauge CASCADE; INSERT INTO gauge (id, name) VALUES (900, 'later')");
    const body = { picks, destination: { to: 'original' as const }, reason };
    const beside = /gauge(_\d{4}_\d{4})/.exec(
      (await admin.call('planRestore', { body: { ...body, rule: 'beside' } })).items[0]!.goesTo,
    )![0];
    const put = (await admin.call('startRestore', { body: { ...body, rule: 'beside' } })).runId;
    expect((await admin.ended(put)).tasks[0]).toMatchObject({ cause: null, state: 'done', counts: { failed: 0 } });
    expect(sums(beside)).toBe(wanted);
    expect(await restored({ ...body, rule: 'beside' })).toMatchObject({ state: 'failed', cause: { code: 'EXISTS_THERE' } });
    await differs(put, beside, sums);
    const ends = run("SELECT nextval('gauge_id_seq')");
    expect(await restored({ ...body, rule: 'replace', rescue: false })).toMatchObject({
      cause: null,
      state: 'done',
      counts: { failed: 0 },
    });
    expect(sums('gauge')).toBe(wanted);
    expect(run('SELECT count(*) FROM of_gauge')).toBe(run('SELECT count(*) FROM gauge'));
    expect(Number(run("SELECT nextval('gauge_id_seq')"))).toBe(Number(ends) + 1);
    expect(run("SELECT tgenabled FROM pg_trigger WHERE tgname = 'noted'")).toBe('O');
    // another form: it is made anew, unless others need it as it is
    run('ALTER TABLE gauge ADD COLUMN more int');
    expect(await restored({ ...body, rule: 'replace', rescue: false })).toMatchObject({ state: 'failed', cause: { code: 'EXISTS_THERE' } });
    run('DROP VIEW of_gauge');
    expect(await restored({ ...body, rule: 'replace', rescue: false })).toMatchObject({
      cause: null,
      state: 'done',
      counts: { failed: 0 },
    });
    expect(sums('gauge')).toBe(wanted);
    run('DROP TABLE gauge CASCADE');
    expect(await restored(body)).toMatchObject({ cause: null, state: 'done', counts: { failed: 0 } });
    expect(sums('gauge')).toBe(wanted);
  });

  it('says what of a database can not be read', async () => {
    db.run("SELECT lo_from_bytea(0, convert_to(repeat('x', 34000000), 'UTF8'))", 'ledger');
    expect((await protect()).tasks[0]).toMatchObject({ cause: null, state: 'partsMissing' });
    db.run('SELECT lo_unlink(oid) FROM pg_largeobject_metadata', 'ledger');
    expect((await protect()).tasks[0]).toMatchObject({ cause: null, state: 'done' });
  });

  it('gives large objects back with their numbers, holes and owners', async () => {
    db.run("SELECT lo_from_bytea(7001, 'tide table'), lo_create(7002), lo_from_bytea(7003, '\\x00ff27')", 'ledger');
    db.run("SELECT lo_put(7003, 9000, convert_to(repeat('q', 5000), 'UTF8'))", 'ledger');
    const then = db.dump('ledger');
    expect((await protect()).tasks[0]).toMatchObject({ cause: null, state: 'done' });
    db.run("SELECT lo_unlink(7001), lo_put(7003, 0, 'changed')", 'ledger');
    const picks = [{ pointId: (await newest()).id, path: 'ledger' }];
    const to = { to: 'server' as const, systemId, databases: [{ from: 'ledger', to: 'ledger_large' }] };
    expect(await restored({ picks, destination: to, reason })).toMatchObject({ cause: null, state: 'done', counts: { failed: 0 } });
    expect(db.dump('ledger_large')).toBe(then);
    db.run('SELECT lo_unlink(oid) FROM pg_largeobject_metadata', 'ledger');
    db.run('DROP DATABASE ledger_large');
    expect((await protect()).tasks[0]).toMatchObject({ cause: null, state: 'done' });
  });

  it('gives a database under another name, and no server of another family takes it', async () => {
    const { id: pointId } = await newest();
    const picks = [{ pointId, path: 'ledger' }];
    const to = { to: 'server' as const, systemId, databases: [{ from: 'ledger', to: 'ledger_then' }] };
    expect(await restored({ picks, destination: to, reason })).toMatchObject({ cause: null, state: 'done', counts: { failed: 0 } });
    expect(db.dump('ledger_then')).toBe(db.dump('ledger'));
    const plan = await admin.call('planRestore', { body: { picks, destination: { to: 'original' as const }, rule: 'beside', reason } });
    expect(plan.items[0]!.goesTo).toMatch(/^ledger_\d{4}_\d{4} on Tide$/);
    const beside = await restored({ picks, destination: { to: 'original' as const }, rule: 'beside', reason });
    expect(beside).toMatchObject({ cause: null, state: 'done', counts: { failed: 0 } });
    expect(db.run("SELECT count(*) FROM pg_database WHERE datname ~ '^ledger_\\d{4}_\\d{4}$'").trim()).toBe('1');
  });
});
