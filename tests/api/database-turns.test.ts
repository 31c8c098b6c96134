import { setTimeout as pause } from 'node:timers/promises';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';
import { ProtectedDatabase } from '../support/protected-database';
import { ProtectedPostgresql } from '../support/protected-postgresql';

let h: Harness;
let admin: Client;
let targetId: string;

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 20_000, schedulerMs: 0 });
  admin = await h.as('administrator');
  ({ targetId } = await h.connect(admin));
});
afterAll(() => h.stop());

type Server = ProtectedDatabase | ProtectedPostgresql;
interface Family<S extends Server> {
  readonly name: string;
  readonly start: (folder: string) => Promise<S>;
  readonly make: (server: S) => void;
  /** Writes rows, and makes the log go on in another file. */
  readonly write: (server: S, rows: number) => void;
  readonly rows: (server: S, database: string) => string;
  readonly takeOver: (replica: S) => void;
  readonly setBack: RegExp;
  readonly another: RegExp;
}

const mariadb: Family<ProtectedDatabase> = {
  name: 'MariaDB',
  start: (folder) => ProtectedDatabase.start(folder),
  make: (s) => s.run('CREATE DATABASE pegel; USE pegel; CREATE TABLE level (id INT PRIMARY KEY AUTO_INCREMENT, note VARCHAR(40))'),
  write: (s, rows) =>
    s.run(`USE pegel; INSERT INTO level (note) SELECT CONCAT('row ', seq, ' of ', NOW(6)) FROM seq_1_to_${rows}; FLUSH BINARY LOGS`),
  rows: (s, database) => s.run(`SELECT COUNT(*) FROM ${database}.level`).trim(),
  takeOver: (s) => s.run('STOP SLAVE; RESET SLAVE ALL'),
  setBack: /set back|purged before it was read, or reset/,
  another: /another server now/,
};
const postgresql: Family<ProtectedPostgresql> = {
  name: 'PostgreSQL',
  start: (folder) => ProtectedPostgresql.start(folder),
  make: (s) => {
    s.run('CREATE DATABASE pegel');
    s.run('CREATE TABLE level (id serial PRIMARY KEY, note text)', 'pegel');
  },
  write: (s, rows) =>
    s.run(
      `INSERT INTO level (note) SELECT 'row ' || i || clock_timestamp() FROM generate_series(1, ${rows}) i; SELECT pg_switch_wal()`,
      'pegel',
    ),
  rows: (s, database) => s.run('SELECT count(*) FROM level', database).trim(),
  takeOver: (s) => s.run('SELECT pg_promote()'),
  setBack: /set back/,
  another: /another timeline/,
};

function turns<S extends Server>(family: Family<S>): void {
  describe(`a ${family.name} server that is not what it was`, () => {
    let db: S;
    let replica: S | undefined;
    let systemId: number;
    let workloadId: number;
    let policyId: number;
    const run = async (rule: number) => admin.ended((await admin.call('runPolicy', { id: policyId, body: { rule } })).runId);
    const band = () => admin.call('databaseBand', { id: workloadId });
    const restored = async (at: number, to: string) => {
      const { fulls } = await band();
      const body = {
        picks: [{ pointId: fulls[0]!.pointId, path: 'pegel' }],
        destination: { to: 'server' as const, systemId, databases: [{ from: 'pegel', to }] },
        until: { at },
        reason: 'to see what was there',
      };
      return (await admin.ended((await admin.call('startRestore', { body })).runId)).tasks[0]!;
    };
    let before: { to: number };
    let there: string;

    beforeAll(async () => {
      db = await family.start(`${h.folder}/${family.name}`);
      family.make(db);
      const added = await admin.call('addSystem', { body: db.body(family.name) });
      [systemId, workloadId] = [added.id, added.workloads[0]!];
      const body = policyFor([workloadId], targetId);
      const rule = body.rules[0]!;
      const rules = [
        { ...rule, no: 1, kind: 'full' as const, schedule: { every: 'hand' as const } },
        { ...rule, no: 2, kind: 'log' as const, schedule: { every: 'hand' as const }, keep: { by: 'days' as const, days: 14 } },
      ];
      policyId = (await admin.call('addPolicy', { body: { ...body, name: family.name, rules } })).id;
      family.write(db, 10);
    }, 120_000);
    afterAll(async () => {
      await replica?.stop();
      await db.stop();
    });

    it('has its log taken from the full on, also where that was not there yet when the log began', async () => {
      const full = (await run(1)).tasks[0]!.pointId!;
      const points = h.server.deps.db('point').where({ id: full });
      await points.clone().update({ state: 'expired' });
      family.write(db, 10);
      expect(await run(2)).toMatchObject({ state: 'done' });
      await points.clone().update({ state: 'visible' });
      expect((await band()).stretches).toMatchObject([{ from: null, cause: '' }]);
      family.write(db, 10);
      await pause(2100);
      expect(await run(2)).toMatchObject({ state: 'done' });
      expect((await band()).stretches).toMatchObject([{ from: (await band()).fulls[0]!.moment, cause: '' }]);
    });

    it('is found to be set back, also where it has written more than was read since', async () => {
      await db.copyTo(`${h.folder}/${family.name}-earlier`);
      family.write(db, 20);
      await pause(2100);
      expect(await run(2)).toMatchObject({ state: 'done' });
      [before, there] = [(await band()).stretches.at(-1)!, family.rows(db, 'pegel')];
      await db.setBackTo(`${h.folder}/${family.name}-earlier`);
      for (let i = 0; i < 4; i++) family.write(db, 200);
      expect(await run(2)).toMatchObject({ state: 'remarks' });
      const { stretches } = await band();
      expect(stretches).toHaveLength(2);
      expect(stretches[1]!.cause).toMatch(family.setBack);
      expect(await restored(before.to, 'as_before')).toMatchObject({ cause: null });
      expect(family.rows(db, 'as_before')).toBe(there);
    });

    it('is found to be another one, after one that followed it has taken over', async () => {
      // after a gap a full is taken by itself
      await h.idle(admin);
      await pause(1100);
      await run(2);
      replica = (await db.replica(`${h.folder}/${family.name}-b`)) as S;
      family.write(db, 5);
      await expect.poll(() => family.rows(replica!, 'pegel'), { timeout: 30_000 }).toBe(family.rows(db, 'pegel'));
      const stretchesBefore = (await band()).stretches.length;
      family.takeOver(replica);
      await db.stop();
      await admin.call('changeSystem', { id: systemId, body: replica.body(family.name) });
      family.write(replica, 7);
      expect(await run(2)).toMatchObject({ state: 'remarks' });
      const { stretches } = await band();
      expect(stretches).toHaveLength(stretchesBefore + 1);
      expect(stretches.at(-1)!.cause).toMatch(family.another);
      // from a full of the new one on, seconds are reached again; those of long before still are
      await h.idle(admin);
      family.write(replica, 3);
      await pause(2100);
      await run(2);
      const now = await band();
      const last = now.stretches.at(-1)!;
      expect(last.from).not.toBeNull();
      expect(await restored(last.to, 'of_the_new_one')).toMatchObject({ cause: null });
      expect(family.rows(replica, 'of_the_new_one')).toBe(family.rows(replica, 'pegel'));
      expect(await restored(before.to, 'long_before')).toMatchObject({ cause: null });
      expect(family.rows(replica, 'long_before')).toBe(there);
    });
  });
}

turns(mariadb);
turns(postgresql);
