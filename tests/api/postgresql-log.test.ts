import { setTimeout as pause } from 'node:timers/promises';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';
import { ProtectedPostgresql } from '../support/protected-postgresql';

let h: Harness;
let admin: Client;
let db: ProtectedPostgresql;
let systemId: number;
let workloadId: number;
let policyId: number;
const reason = 'a script went wrong';
/** Seconds that are brought back. */
const wanted = Number(process.env['LITHODEX_SECONDS'] ?? 2);

/** Accounts whose sum never changes, and a row for every commit. */
const ledger = `
CREATE TABLE account (id int PRIMARY KEY, amount bigint NOT NULL); INSERT INTO account SELECT i, 1000 FROM generate_series(1, 50) i;
CREATE TABLE entry (id bigserial PRIMARY KEY, at bigint NOT NULL, a int NOT NULL, b int NOT NULL, amount int NOT NULL);
CREATE TABLE tariff (id int PRIMARY KEY, amount int); INSERT INTO tariff SELECT i, i FROM generate_series(1, 4812) i;
CREATE FUNCTION sum_of(x int) RETURNS bigint LANGUAGE sql AS 'SELECT amount FROM account WHERE id = x';
CREATE PROCEDURE work(n int) LANGUAGE plpgsql AS $$ DECLARE x int; y int; s int; BEGIN FOR i IN 1..n LOOP
  x := 1 + floor(random() * 50); y := 1 + floor(random() * 50); s := floor(random() * 100);
  UPDATE account SET amount = amount - s WHERE id = x; UPDATE account SET amount = amount + s WHERE id = y;
  INSERT INTO entry (at, a, b, amount) VALUES (floor(extract(epoch FROM clock_timestamp())), x, y, s); COMMIT;
END LOOP; END $$;`;

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 20_000, schedulerMs: 0 });
  admin = await h.as('administrator');
  const { targetId } = await h.connect(admin);
  db = await ProtectedPostgresql.start(`${h.folder}/protected`);
  db.run('CREATE DATABASE ledger');
  db.run(ledger, 'ledger');
  ({
    id: systemId,
    workloads: [workloadId = 0],
  } = await admin.call('addSystem', { body: db.body('Tide') }));
  const body = policyFor([workloadId], targetId);
  const rule = body.rules[0]!;
  const rules = [
    { ...rule, no: 1, kind: 'full' as const, schedule: { every: 'hand' as const } },
    { ...rule, no: 2, kind: 'log' as const, schedule: { every: 'hand' as const }, keep: { by: 'days' as const, days: 14 } },
  ];
  policyId = (await admin.call('addPolicy', { body: { ...body, rules } })).id;
});
afterAll(async () => {
  await db.stop();
  await h.stop();
});

const sql = (text: string, database = 'ledger') => db.run(text, database).trim();
const run = async (rule: number) => admin.ended((await admin.call('runPolicy', { id: policyId, body: { rule } })).runId);
const band = () => admin.call('databaseBand', { id: workloadId });
const restored = async (until: { at: number } | { file: string; position: number; at: number }, to: string) => {
  const { fulls } = await band();
  const body = {
    picks: [{ pointId: fulls.find((f) => f.logged)!.pointId, path: 'ledger' }],
    destination: { to: 'server' as const, systemId, databases: [{ from: 'ledger', to }] },
    until,
    reason,
  };
  return (await admin.ended((await admin.call('startRestore', { body })).runId)).tasks[0]!;
};
/** What a ledger of then has that it should not have, or lacks: see the test of the other family. */
const differences = (database: string, second: number): string[] => {
  const found: string[] = [];
  const [count = 0, newest = 0] = sql('SELECT count(*), coalesce(max(id), 0) FROM entry', database).split('|').map(Number);
  const should = sql(`SELECT count(*) FROM entry WHERE id <= ${newest}`);
  if (Number(should) !== count) found.push(`${second}: ${count} entries instead of ${should}`);
  const late = sql(`SELECT count(*) FROM entry WHERE at > ${second}`, database);
  if (late !== '0') found.push(`${second}: ${late} entries of later`);
  const lacks = sql(`SELECT count(*) FROM entry WHERE id > ${newest} AND at < ${second}`);
  if (lacks !== '0') found.push(`${second}: ${lacks} entries are not there`);
  const off = sql(
    `SELECT count(*) FROM account c WHERE amount <> 1000 + (SELECT coalesce(sum(amount), 0) FROM entry WHERE b = c.id) - (SELECT coalesce(sum(amount), 0) FROM entry WHERE a = c.id)`,
    database,
  );
  if (off !== '0') found.push(`${second}: ${off} accounts differ`);
  return found;
};

describe('the log of a server of the other family', () => {
  it(
    'leads from a full to any second, to the ledger as it was then',
    async () => {
      sql('CALL work(40)');
      expect((await run(1)).tasks[0]).toMatchObject({ cause: null, state: 'done' });
      expect((await run(2)).tasks[0]).toMatchObject({ cause: null, state: 'done' });
      const rounds = Math.max(5, Math.min(40, wanted));
      for (let i = 0; i < rounds; i++) {
        const writing = db.runBeside(`CALL work(${wanted > 3 ? 900 : 60})`, 'ledger');
        if (i % 2) await run(2);
        if (i % 3 === 1) sql('SELECT pg_switch_wal()');
        await Promise.all([writing, pause(700)]);
      }
      await run(2);
      const { stretches, fulls } = await band();
      expect(fulls).toMatchObject([{ logged: true }]);
      expect(stretches).toMatchObject([{ from: fulls[0]!.moment, cause: '' }]);
      const { from, to } = stretches[0]!;
      const wrong: string[] = [];
      for (let i = 0; i < wanted; i++) {
        const share = wanted > 3 ? Math.random() : [0.6, 1][i]!;
        const at = Math.floor((from! + (to - from!) * share) / 1000) * 1000;
        expect(await restored({ at }, 'then')).toMatchObject({ cause: null, counts: { failed: 0 } });
        wrong.push(...differences('then', at / 1000));
        sql('DROP DATABASE "then"', 'postgres');
      }
      expect(wrong).toEqual([]);
    },
    240_000 + wanted * 10_000,
  );

  it('tells what was done around a moment, and brings one table back as it was right before a commit', async () => {
    sql('CALL work(3)');
    await pause(1100);
    sql('BEGIN; DELETE FROM tariff; INSERT INTO entry (at, a, b, amount) VALUES (0, 1, 1, 3); COMMIT');
    sql('TRUNCATE tariff');
    await run(2);
    const { notable, fulls } = await band();
    const gone = notable.at(-2)!;
    expect(gone.tables).toContainEqual({ database: 'ledger', table: 'public.tariff', change: 'deleted', rows: 4812 });
    expect(notable.at(-1)!.tables).toContainEqual({ database: 'ledger', table: 'public.tariff', change: 'statement', rows: 0 });
    const { rows } = await admin.call('databaseCommits', { id: workloadId, query: { at: gone.at, before: 3, after: 3 } });
    expect(rows.map((r) => r.position)).toContain(gone.position);
    expect(rows[0]!.tables.map((t) => t.table)).toContain('public.account');
    const body = {
      picks: [{ pointId: fulls[0]!.pointId, path: 'ledger/tables/public.tariff.sql' }],
      destination: { to: 'original' as const },
      rule: 'replace' as const,
      rescue: false,
      until: { file: gone.file, position: gone.position, at: gone.at },
      reason,
    };
    expect((await admin.call('planRestore', { body })).checks.map((c) => c.code)).toContain('CHAIN');
    const others = () => sql('SELECT count(*), max(id) FROM entry; SELECT sum(amount) FROM account');
    const before = others();
    const { tasks } = await admin.ended((await admin.call('startRestore', { body })).runId);
    expect(tasks[0]).toMatchObject({ cause: null, counts: { failed: 0, items: 1 } });
    expect(sql('SELECT count(*), sum(amount) FROM tariff')).toBe('4812|11580078');
    // nothing else was touched
    expect(others()).toBe(before);
  });

  it('says that there is a gap where the server goes on another way, and a full is taken by itself', async () => {
    await pause(2100);
    await run(2);
    const before = (await band()).stretches.at(-1)!;
    sql("SELECT pg_drop_replication_slot(slot_name) FROM pg_replication_slots WHERE slot_name LIKE 'lithodex%'", 'postgres');
    sql('CALL work(5); SELECT pg_switch_wal()');
    for (let i = 0; i < 3; i++) sql('CALL work(5); CHECKPOINT; SELECT pg_switch_wal()');
    // the segments that were not read are taken away by hand, as nobody keeps them
    db.forgetLog();
    expect(await run(2)).toMatchObject({ state: 'remarks' });
    const { stretches } = await band();
    expect(stretches).toHaveLength(2);
    expect(stretches[1]).toMatchObject({ cause: expect.stringContaining('removed before it was read') });
    await expect.poll(async () => (await band()).fulls.length, { timeout: 30_000 }).toBe(2);
    await pause(2100);
    await run(2);
    expect((await band()).stretches[1]!.from).not.toBeNull();
    await expect(restored({ at: before.to + 1000 }, 'never')).rejects.toMatchObject({ code: 'INVALID' });
    expect(await restored({ at: before.to }, 'before_gap')).toMatchObject({ cause: null, counts: { failed: 0 } });
    expect(differences('before_gap', before.to / 1000)).toEqual([]);
  });

  it('says in the policy that fulls hold the files of the server as well', async () => {
    const { body } = await admin.call('getPolicy', { id: policyId });
    const warnings = async (rules: typeof body.rules) =>
      (await admin.call('consequences', { body: { id: policyId, body: { ...body, rules } } })).warnings.map((w) => w.code);
    expect(await warnings(body.rules)).toContain('LOG_NEEDS_FILES');
    expect(await warnings([body.rules[0]!])).not.toContain('LOG_NEEDS_FILES');
  });

  it('leaves no scratch server behind, and nothing of one', () => {
    // movers of other tests have theirs
    const own = [...h.movers.values()].map((mover) => `lithodex-scratch-${mover.pid}-`);
    expect(db.scratches().filter((name) => own.some((begin) => name.startsWith(begin)))).toEqual([]);
  });
});
