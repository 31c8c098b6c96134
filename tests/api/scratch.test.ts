import fs from 'node:fs';
import os from 'node:os';
import { itemNameOf } from '@lithodex/core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { itLong } from '../support/by-command';
import { Harness, policyFor, type Client } from '../support/harness';
import { ProtectedDatabase } from '../support/protected-database';
import { ProtectedPostgresql } from '../support/protected-postgresql';

let h: Harness;
let admin: Client;
let targetId: string;
let mover: { readonly pid?: number | undefined; kill(signal: 'SIGTERM'): boolean };
const clock = { ahead: 0 };
const reason = 'which rows were there before the import';
const hand = { every: 'hand' as const };

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 20_000, schedulerMs: 0, clock: { now: () => Date.now() + clock.ahead } });
  admin = await h.as('administrator');
  ({ targetId } = await h.connect(admin));
  mover = h.movers.get('mover-1')!;
});
afterAll(() => h.stop());

const scratches = () => fs.readdirSync(os.tmpdir()).filter((name) => name.startsWith(`lithodex-scratch-${mover.pid}-`));
const gone = async (left: number) => {
  for (let i = 0; i < 100 && scratches().length > left; i++) await new Promise((resume) => setTimeout(resume, 50));
  expect(scratches()).toHaveLength(left);
};
const second = async () => {
  const now = Date.now();
  await new Promise((resume) => setTimeout(resume, 1000 - (now % 1000)));
  return Math.floor(Date.now() / 1000) * 1000;
};

interface Source {
  readonly body: ReturnType<ProtectedDatabase['body']>;
  readonly database: string;
  /** As an item says it. */
  readonly table: string;
  readonly run: (sql: string) => string;
}

/** Looks into points and moments of a server that holds the rows 1 to 5 in a table. */
async function looksInside({ body, database, table, run }: Source): Promise<void> {
  const { workloads } = await admin.call('addSystem', { body });
  const workloadId = workloads[0]!;
  const made = policyFor([workloadId], targetId, { name: database });
  const rule = made.rules[0]!;
  const rules = [
    { ...rule, no: 1, kind: 'full' as const, schedule: hand },
    { ...rule, no: 2, kind: 'log' as const, schedule: hand, keep: { by: 'days' as const, days: 14 } },
  ];
  const policy = (await admin.call('addPolicy', { body: { ...made, rules } })).id;
  const take = async (no: number) => admin.ended((await admin.call('runPolicy', { id: policy, body: { rule: no } })).runId);
  await take(1);
  await second();
  run(`INSERT INTO ${table} VALUES (6, 'six')`);
  const then = await second();
  await second();
  run(`DELETE FROM ${table} WHERE id < 3; UPDATE ${table} SET name = 'other' WHERE id = 4; INSERT INTO ${table} VALUES (9, NULL)`);
  await second();
  await take(2);
  const before = scratches().length;

  const { fulls } = await admin.call('databaseBand', { id: workloadId });
  const want = {
    picks: [{ pointId: fulls[0]!.pointId, path: '' }],
    destination: { to: 'scratch' as const, minutes: 60 },
    rule: 'leave' as const,
    until: { at: then },
    reason,
  };
  const plan = await admin.call('planRestore', { body: want });
  expect(plan.checks.map((c) => c.code)).toEqual(['COMPLETE', 'STAYS', 'CHAIN']);
  const { runId } = await admin.call('startRestore', { body: want });
  expect((await admin.ended(runId)).tasks[0]).toMatchObject({ cause: null, state: 'done' });

  const inside = await admin.call('inside', { id: runId });
  expect(inside).toMatchObject({ workloadId, at: then, comparable: true });
  expect(inside.tables.map((t) => [t.database, t.table])).toContainEqual([database, table]);
  const rows = (query: object) => admin.call('insideRows', { id: runId, query: { database, table, ...query } });
  const all = await rows({});
  expect(all).toMatchObject({ columns: ['id', 'name'], key: ['id'], more: false });
  expect(all.rows.map((r) => r[0])).toEqual(['1', '2', '3', '4', '5', '6']);
  expect((await rows({ column: 'name', text: "o'u" })).rows).toEqual([['4', "fo'ur"]]);
  expect((await rows({ offset: 4 })).rows.map((r) => r[0])).toEqual(['5', '6']);
  await expect(rows({ table: `${table}x` })).rejects.toMatchObject({ code: 'MOVER_FAILED' });

  // against what stands there now, twice: the rows of now are read anew
  const difference = () => admin.call('insideDifference', { id: runId, query: { database, table } });
  expect(await difference()).toMatchObject({ counts: { now: 5, then: 6, added: 1, changed: 1, gone: 2 } });
  run(`DELETE FROM ${table} WHERE id = 9`);
  const again = await difference();
  expect(again).toMatchObject({ counts: { now: 4, then: 6, added: 0, changed: 1, gone: 2 } });
  expect(again.rows.filter((r) => r.change === 'changed')).toEqual([{ change: 'changed', now: ['4', 'other'], then: ['4', "fo'ur"] }]);
  expect((await admin.call('inside', { id: runId })).tables.map((t) => t.table)).not.toContain(`${table}_now`);
  expect(run(`SELECT COUNT(*) FROM ${table}`).trim()).toMatch(/4$/);

  for (const role of ['operator', 'auditor'] as const)
    await expect((await h.as(role)).call('inside', { id: runId })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
  await expect((await h.as('clerk')).call('inside', { id: runId })).rejects.toMatchObject({ status: 404 });
  expect((await admin.call('audit', { query: {} })).rows.map((r) => r.action)).toEqual(
    expect.arrayContaining(['rows.read', 'rows.compare']),
  );

  await admin.call('endInside', { id: runId });
  await gone(before);
  await expect(admin.call('inside', { id: runId })).rejects.toMatchObject({ message: expect.stringContaining('not up any more') });

  // one table of the full alone
  const part = { ...want, until: undefined, picks: [{ pointId: fulls[0]!.pointId, path: `${database}/tables/${itemNameOf(table)}.sql` }] };
  const alone = (await admin.call('startRestore', { body: part })).runId;
  expect((await admin.ended(alone)).state).toBe('done');
  expect((await admin.call('inside', { id: alone })).tables.map((t) => t.table)).toEqual([table]);
  expect((await admin.call('insideRows', { id: alone, query: { database, table } })).rows).toHaveLength(5);
  expect(scratches().length).toBe(before + 1);
  await expect(admin.call('inside', { id: runId })).rejects.toMatchObject({ code: 'MOVER_FAILED' });
  await admin.call('removePolicy', { id: policy });
}

const five = (table: string) => `INSERT INTO ${table} VALUES (1, 'one'), (2, 'two'), (3, 'three'), (4, 'fo''ur'), (5, NULL)`;

describe('a scratch server that stays up', () => {
  it('of MariaDB shows a moment, its rows, and how they differ from those of now', { timeout: 300_000 }, async () => {
    const db = await ProtectedDatabase.start(`${h.folder}/mariadb`);
    try {
      db.run(`CREATE DATABASE berths; USE berths; CREATE TABLE ship (id INT PRIMARY KEY, name VARCHAR(40)); ${five('ship')}`);
      await looksInside({ body: db.body('Berths'), database: 'berths', table: 'ship', run: (sql) => db.run(`USE berths; ${sql}`) });
    } finally {
      await db.stop();
    }
  });

  itLong('of PostgreSQL does the same', { timeout: 300_000 }, async () => {
    const db = await ProtectedPostgresql.start(`${h.folder}/postgresql`);
    try {
      db.run('CREATE DATABASE tides');
      db.run(`CREATE TABLE ship (id int PRIMARY KEY, name text); ${five('ship')}`, 'tides');
      await looksInside({ body: db.body('Tides'), database: 'tides', table: 'public.ship', run: (sql) => db.run(sql, 'tides') });
    } finally {
      await db.stop();
    }
  });

  it('ends with its mover', async () => {
    expect(scratches().length).toBeGreaterThan(0);
    mover.kill('SIGTERM');
    await gone(0);
  });
});
