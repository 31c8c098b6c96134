import fs from 'node:fs';
import { itemNameOf } from '@lithodex/core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, type Client } from '../support/harness';
import { ProtectedDatabase } from '../support/protected-database';
import { ProtectedPostgresql } from '../support/protected-postgresql';

let h: Harness;
let admin: Client;
let targetId: string;
const reason = 'the agent asked for the old names';

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 20_000 });
  admin = await h.as('administrator');
  ({ targetId } = await h.connect(admin));
});
afterAll(() => h.stop());

interface Source {
  readonly body: ReturnType<ProtectedDatabase['body']>;
  readonly database: string;
  readonly table: string;
  readonly run: (sql: string) => string;
  /** A text that makes the table with these rows, its third line as given. */
  readonly text: (third: string) => string;
  /** What must not be done, with a file that would show it. */
  readonly attacks: readonly string[];
  readonly marker: string;
}

async function bringsBackEdited({ body, database, table, run, text, attacks, marker }: Source): Promise<void> {
  const { workloads } = await admin.call('addSystem', { body });
  const workloadId = workloads[0]!;
  await admin.ended((await admin.call('protectOnce', { id: workloadId, body: { targetId } })).runId);
  const [point] = (await admin.call('workload', { id: workloadId })).pointList;
  const picks = [{ pointId: point!.id, path: `${database}/tables/${itemNameOf(table)}.sql` }];
  const want = { picks, destination: { to: 'original' as const }, rule: 'beside' as const, rescue: false, reason };
  const bring = async (edited: string, more: object = {}) => {
    const { runId } = await admin.call('startRestore', { body: { ...want, edited, ...more } });
    const kept = await h.server.deps.db('edited_text').select<{ sealed: Buffer }[]>('sealed');
    for (const { sealed } of kept) expect(sealed.includes('Fyrlys')).toBe(false);
    return admin.ended(runId);
  };
  const tables = () => run(table.includes('.') ? "SELECT count(*) FROM pg_tables WHERE schemaname = 'public'" : 'SHOW TABLES').trim();
  const before = tables();

  const refused = await bring(text('INSERT INTO;'));
  expect(refused).toMatchObject({ state: 'failed' });
  expect(refused.tasks[0]!.cause).toMatchObject({ code: 'EDITED_REFUSED', message: expect.stringMatching(/line 3\b/) });
  for (const attack of attacks) {
    const run = await bring(text(attack));
    expect(run.tasks[0]!.cause?.code, attack).toBe('EDITED_REFUSED');
    expect(fs.existsSync(marker), attack).toBe(false);
  }
  expect((await bring('-- nothing')).tasks[0]!.cause).toMatchObject({ message: expect.stringContaining('makes nothing') });
  const tried = await bring(text(''), { trial: true });
  expect(tried.state).toBe('done');
  expect(tables()).toBe(before);

  const done = await bring(text(''));
  expect(done.tasks[0]).toMatchObject({ cause: null, state: 'done' });
  const [beside] = (await admin.call('besideTables', { id: done.id })).rows;
  const difference = await admin.call('besideRows', { id: done.id, query: { task: beside!.taskId, path: beside!.path } });
  expect(difference.counts).toEqual({ now: 2, then: 3, added: 0, changed: 1, gone: 1 });
  expect(difference.rows.find((r) => r.change === 'gone')?.then).toEqual(['3', 'Fyrlys']);
  expect(await h.server.deps.db('edited_text').select()).toEqual([]);
  // in the place of what is there
  expect((await bring(text(''), { rule: 'replace' })).state).toBe('done');
  expect(run(`SELECT name FROM ${table} WHERE id = 3`)).toContain('Fyrlys');

  for (const more of [{ until: { at: Date.now() } }, { picks: [...picks, ...picks] }, { destination: { to: 'scratch', minutes: 30 } }])
    await expect(bring(text(''), more)).rejects.toMatchObject({ code: 'INVALID' });
}

describe('a text that was edited', () => {
  it('is tried before it comes to a MariaDB server, with rights in its own database only', { timeout: 300_000 }, async () => {
    const db = await ProtectedDatabase.start(`${h.folder}/mariadb`);
    const marker = `${h.folder}/mariadb/written`;
    try {
      db.run(
        "CREATE DATABASE berths; USE berths; CREATE TABLE ship (id INT PRIMARY KEY, name VARCHAR(40)); INSERT INTO ship VALUES (1, 'Alk'), (2, 'Lom')",
      );
      const text = (third: string) =>
        `CREATE TABLE ship (id INT PRIMARY KEY, name VARCHAR(40));\nINSERT INTO ship VALUES (1, 'Alk'), (2, 'Teist');\n${third}\nINSERT INTO ship VALUES (3, 'Fyrlys');\n`;
      await bringsBackEdited({
        body: db.body('Berths'),
        database: 'berths',
        table: 'ship',
        run: (sql) => db.run(`USE berths; ${sql}`),
        text,
        marker,
        attacks: [
          `SELECT 'x' INTO OUTFILE '${marker}';`,
          `\\! touch ${marker}`,
          `CREATE DEFINER = 'scratch'@'127.0.0.1' PROCEDURE p() SELECT 'x' INTO OUTFILE '${marker}'; CALL p();`,
        ],
      });
    } finally {
      await db.stop();
    }
  });

  it('does so of PostgreSQL as well, without keys to tables that are not there', { timeout: 300_000 }, async () => {
    const db = await ProtectedPostgresql.start(`${h.folder}/postgresql`);
    const marker = `${h.folder}/postgresql/written`;
    fs.mkdirSync(`${h.folder}/postgresql`, { recursive: true });
    try {
      db.run('CREATE DATABASE tides');
      db.run(
        "CREATE TABLE quay (id int PRIMARY KEY); INSERT INTO quay VALUES (1), (2), (3); CREATE TABLE ship (id int PRIMARY KEY REFERENCES quay, name text); INSERT INTO ship VALUES (1, 'Alk'), (2, 'Lom')",
        'tides',
      );
      const text = (third: string) =>
        `CREATE TABLE public.ship (id integer NOT NULL, name text);\nALTER TABLE public.ship OWNER TO keeper;\n${third}\nCOPY public.ship (id, name) FROM stdin;\n1\tAlk\n2\tTeist\n3\tFyrlys\n\\.\n\nALTER TABLE ONLY public.ship\n    ADD CONSTRAINT ship_pkey PRIMARY KEY (id);\nALTER TABLE ONLY public.ship\n    ADD CONSTRAINT ship_id_fkey FOREIGN KEY (id) REFERENCES public.quay(id);\n`;
      await bringsBackEdited({
        body: db.body('Tides'),
        database: 'tides',
        table: 'public.ship',
        run: (sql) => db.run(sql, 'tides'),
        text,
        marker,
        attacks: [`COPY public.ship TO PROGRAM 'touch ${marker}';`, `\\! touch ${marker}`, `\\unrestrict guess\n\\! touch ${marker}`],
      });
    } finally {
      await db.stop();
    }
  });
});
