import fs from 'node:fs';
import { escapePath } from '@lithodex/core';
import type { DatabaseFacts } from '@lithodex/kinds';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';
import { awkward, ProtectedDatabase } from '../support/protected-database';

let h: Harness;
let admin: Client;
let db: ProtectedDatabase;
let targetId: string;
let systemId: number;
let workloadId: number;
const names = ['berths', 'ta/r%iffs.'];
const reason = 'the import job emptied it';

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 20_000 });
  admin = await h.as('administrator');
  ({ targetId } = await h.connect(admin));
  db = await ProtectedDatabase.start(`${h.folder}/protected`);
  db.run(awkward);
});
afterAll(async () => {
  await db.stop();
  await h.stop();
});

const newest = async () => (await admin.call('workload', { id: workloadId })).pointList.sort((a, b) => b.moment - a.moment)[0]!;
const protect = async () => {
  const { runId } = await admin.call('protectOnce', { id: workloadId, body: { targetId } });
  return admin.ended(runId);
};

/** What differs between the table and the one put beside it is told row by row, and the two are swapped. */
async function differs(runId: number, beside: string): Promise<void> {
  const rows = (table: string) => db.run(`SELECT COUNT(*), SUM(amount) FROM \`ta/r%iffs.\`.${table}`).trim();
  db.run(
    'USE `ta/r%iffs.`; UPDATE tariff SET amount = amount + 1 WHERE id = 7; DELETE FROM tariff WHERE id > 4800; INSERT INTO tariff VALUES (9000, 1)',
  );
  const { rows: tables } = await admin.call('besideTables', { id: runId });
  expect(tables).toMatchObject([{ database: 'ta/r%iffs.', table: 'tariff' }]);
  const one = { task: tables[0]!.taskId, path: tables[0]!.path };
  const compared = await admin.call('besideRows', { id: runId, query: one });
  expect(compared).toMatchObject({
    server: 'Berths',
    columns: ['id', 'amount'],
    key: ['id'],
    counts: { now: 4801, then: 4812, added: 1, changed: 1, gone: 12 },
  });
  expect(compared.rows.filter((r) => r.change !== 'gone')).toEqual([
    { change: 'changed', now: ['7', '50'], then: ['7', '49'] },
    { change: 'added', now: ['9000', '1'], then: null },
  ]);
  const [now, then] = [rows('tariff'), rows(beside)];
  const swap = { id: runId, body: { ...one, reason } };
  await admin.call('swapBeside', swap);
  expect([rows('tariff'), rows(beside)]).toEqual([then, now]);
  await admin.call('swapBeside', swap);
  expect([rows('tariff'), rows(beside)]).toEqual([now, then]);
  db.run('USE `ta/r%iffs.`; CREATE TRIGGER kept BEFORE INSERT ON tariff FOR EACH ROW SET NEW.amount = 1');
  await expect(admin.call('swapBeside', swap)).rejects.toMatchObject({ message: expect.stringContaining('kept') });
  db.run(
    `DROP TRIGGER \`ta/r%iffs.\`.kept; DELETE FROM \`ta/r%iffs.\`.tariff; INSERT INTO \`ta/r%iffs.\`.tariff SELECT * FROM \`ta/r%iffs.\`.${beside}`,
  );
  const trail = (await admin.call('audit', { query: {} })).rows.map((r) => r.action);
  expect(trail).toEqual(expect.arrayContaining(['rows.compare', 'table.swap']));
  const clerk = await h.as('clerk');
  await expect(clerk.call('besideRows', { id: runId, query: one })).rejects.toMatchObject({ status: 404 });
  for (const role of ['operator', 'auditor'] as const)
    await expect((await h.as(role)).call('swapBeside', swap)).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
  const others = { ...one, path: one.path.replace('tariff', 'other') };
  await expect(admin.call('besideRows', { id: runId, query: others })).rejects.toMatchObject({ status: 404 });
}

describe('a database server', () => {
  it('is told of what is missing to read it, and not kept while it can not be read', async () => {
    const body = db.body('Berths', 'visitor');
    const test = await admin.call('testSystem', { body: { body } });
    expect(test).toMatchObject({ ok: false, found: 2 });
    expect(test.needs.filter((n) => n.missing).map((n) => n.right)).toEqual(
      expect.arrayContaining(['SHOW VIEW', 'TRIGGER', 'EVENT', 'CREATE']),
    );
    await expect(admin.call('addSystem', { body })).rejects.toMatchObject({ code: 'CONNECTION_FAULTY' });
    expect((await admin.call('listSystems')).rows).toEqual([]);
    const wrong = { ...db.body('Berths'), secret: 'not this one' };
    await expect(admin.call('addSystem', { body: wrong })).rejects.toMatchObject({
      message: expect.stringContaining('refused the sign-in'),
    });
  });

  it('is connected and found with its databases', async () => {
    const made = await admin.call('addSystem', { body: db.body('Berths') });
    systemId = made.id;
    workloadId = made.workloads[0]!;
    const { rows } = await admin.call('listSystems');
    expect(rows).toMatchObject([{ name: 'Berths', trouble: null, workloads: [{ name: 'Berths' }] }]);
    expect(JSON.stringify(rows)).not.toContain('gulls');
    const workload = await admin.call('workload', { id: workloadId });
    expect(workload).toMatchObject({ kind: 'database', machine: null, facts: { family: 'mariadb', logs: { on: true } } });
    expect((workload.facts as DatabaseFacts).databases.map((d) => d.name)).toEqual(names);
  });

  it('sends what opens it to no other address', async () => {
    const body = { ...db.body('Berths'), secret: null };
    const elsewhere = { ...body, address: { ...body.address, port: db.port + 1 } };
    await expect(admin.call('testSystem', { body: { id: systemId, body: elsewhere } })).rejects.toMatchObject({ code: 'INVALID' });
    expect(await admin.call('testSystem', { body: { id: systemId, body } })).toMatchObject({ ok: true });
  });

  it('is backed up as text by object, and what did not change is the same at the next point', async () => {
    const run = await protect();
    expect(run.tasks[0]).toMatchObject({ cause: null, state: 'remarks' });
    const first = await newest();
    expect(first).toMatchObject({
      complete: true,
      facts: { kind: 'database', level: 'mixed', position: { file: expect.stringContaining('changes.') } },
    });
    const tree = async (path: string) => (await admin.call('tree', { id: first.id, query: { path } })).rows.map((r) => r.name);
    expect(await tree('')).toEqual(['accounts.sql', 'berths', escapePath('ta~2fr%iffs.')]);
    expect(await tree('berths')).toEqual(['database.sql', 'events', 'routines', 'sequences', 'tables', 'triggers', 'views']);
    db.run("INSERT INTO berths.ship (name, length) VALUES ('Fyrlys', 3)");
    await protect();
    const second = await newest();
    expect([second.added, second.changed, second.removed]).toEqual([0, 1, 0]);
  });

  it('is kept as ordinary files beside the store where that is wanted, those that did not change written once', async () => {
    const folder = `${h.folder}/store/newest`;
    const file = (name: string) => `${folder}/Berths.${workloadId}/${name}`;
    await admin.call('keepNewest', { id: targetId, body: { files: true } });
    await protect();
    const text = fs.readFileSync(file('berths/tables/ship.sql'), 'utf8');
    expect(text).toContain('Fyrlys');
    expect(fs.statSync(file('berths/tables/ship.sql')).mode & 0o777).toBe(0o600);
    const inode = (name: string) => fs.statSync(file(name)).ino;
    const before = [inode('berths/tables/ship.sql'), inode('berths/tables/booking.sql')];
    db.run("INSERT INTO berths.ship (name, length) VALUES ('Havsule', 4)");
    await protect();
    expect(fs.readFileSync(file('berths/tables/ship.sql'), 'utf8')).toContain('Havsule');
    expect(inode('berths/tables/ship.sql')).not.toBe(before[0]);
    expect(inode('berths/tables/booking.sql')).toBe(before[1]);
    expect(fs.readdirSync(folder)).toEqual([`Berths.${workloadId}`]);

    // a link leads nowhere
    fs.renameSync(folder, `${h.folder}/elsewhere`);
    fs.symlinkSync(`${h.folder}/elsewhere`, folder);
    const run = await protect();
    const log = (await admin.call('runLog', { id: run.id, query: {} })).rows;
    expect(log.filter((l) => l.code === 'NOT_BESIDE_STORE')).toHaveLength(1);
    expect(run.state).toBe('remarks');
    fs.rmSync(folder);
    await admin.call('keepNewest', { id: targetId, body: { files: false } });
    await protect();
    expect(fs.existsSync(folder)).toBe(false);
    expect((await admin.ended((await admin.call('verifyTarget', { id: targetId })).runId)).state).toBe('done');
  });

  it('comes back as it was, all of it, in the place of what is there', async () => {
    const before = db.dump(...names);
    const { id: pointId } = await newest();
    db.run(
      'DELETE FROM berths.booking; UPDATE berths.ship SET length = 1; DROP VIEW berths.a_on_top; TRUNCATE `ta/r%iffs.`.tariff; DROP FUNCTION berths.double_of',
    );
    const body = {
      picks: [{ pointId, path: '' }],
      destination: { to: 'original' as const },
      rule: 'replace' as const,
      rescue: false,
      reason,
    };
    const plan = await admin.call('planRestore', { body });
    expect(plan.checks.map((c) => [c.level, c.code])).toEqual(
      expect.arrayContaining([
        ['look', 'REPLACED'],
        ['fine', 'RIGHTS'],
      ]),
    );
    const run = await admin.ended((await admin.call('startRestore', { body })).runId);
    // a key over a column that another is computed from can't be given its name again
    expect(run.tasks[0]).toMatchObject({ state: 'remarks', counts: { failed: 0, warnings: 1 } });
    expect(db.dump(...names).replace('`booking_ibfk_1`', '`of_ship`')).toBe(before);
  });

  it('comes back when everything is gone, and leaves what is there when that is asked', async () => {
    const [berths, tariffs] = names.map((name) => db.dump(name));
    const { id: pointId } = await newest();
    db.run('DROP DATABASE berths; DELETE FROM `ta/r%iffs.`.tariff WHERE id > 10');
    const body = { picks: [{ pointId, path: '' }], destination: { to: 'original' as const }, reason };
    expect((await admin.ended((await admin.call('startRestore', { body })).runId)).tasks[0]).toMatchObject({
      state: 'done',
      counts: { failed: 0 },
    });
    expect(db.dump('berths')).toBe(berths!.replace('`booking_ibfk_1`', '`of_ship`'));
    expect(db.run('SELECT COUNT(*) FROM `ta/r%iffs.`.tariff').trim()).toBe('10');
    db.run('DROP TABLE `ta/r%iffs.`.tariff');
    const one = { ...body, picks: [{ pointId, path: escapePath('ta~2fr%iffs.') }] };
    await admin.ended((await admin.call('startRestore', { body: one })).runId);
    expect(db.dump(names[1]!)).toBe(tariffs);
  });

  it('gives one table back beside the one that is there, and a database under another name', async () => {
    const { id: pointId } = await newest();
    const picks = [{ pointId, path: escapePath('ta~2fr%iffs./tables/tariff.sql') }];
    const body = { picks, destination: { to: 'original' as const }, rule: 'beside' as const, reason };
    const plan = await admin.call('planRestore', { body });
    const beside = /tariff_\d{4}_\d{4}/.exec(plan.items[0]!.goesTo)![0];
    const run = await admin.ended((await admin.call('startRestore', { body })).runId);
    expect(run.tasks[0]!.state).toBe('done');
    expect(db.run(`SELECT COUNT(*), SUM(amount) FROM \`ta/r%iffs.\`.${beside}`)).toBe(
      db.run('SELECT COUNT(*), SUM(amount) FROM `ta/r%iffs.`.tariff'),
    );
    await differs(run.id, beside);
    const again = await admin.ended((await admin.call('startRestore', { body })).runId);
    expect(again.tasks[0]).toMatchObject({ state: 'failed', cause: { code: 'EXISTS_THERE' } });
    const whole = {
      picks: [{ pointId, path: 'berths' }],
      destination: { to: 'server' as const, systemId, databases: [{ from: 'berths', to: 'berths_then' }] },
      reason,
    };
    expect((await admin.ended((await admin.call('startRestore', { body: whole })).runId)).tasks[0]).toMatchObject({
      state: 'done',
      counts: { failed: 0 },
    });
    expect(db.dump('berths_then').replaceAll('berths_then', 'berths')).toBe(db.dump('berths'));
  });

  it('takes a point of what is replaced first, and restores nothing where that is not to be had', async () => {
    const { pointList } = await admin.call('workload', { id: workloadId });
    const point = pointList.findLast((p) => p.kind !== 'log')!;
    const body = { picks: [{ pointId: point.id, path: 'berths' }], destination: { to: 'original' as const }, rule: 'replace' as const };
    const { rescue } = await admin.call('planRestore', { body });
    expect(rescue).toEqual({ workload: 'Berths', target: 'quay-disk' });
    expect((await admin.call('planRestore', { body: { ...body, rule: 'leave' } })).rescue).toBeNull();
    const without = (await admin.call('planRestore', { body: { ...body, rescue: false } })).checks.map((c) => c.code);
    expect(without).toContain('NO_RESCUE');
    db.run("INSERT INTO berths.ship (name) VALUES ('written since')");
    const { runId } = await admin.call('startRestore', { body: { ...body, reason } });
    const run = await admin.ended(runId);
    expect(run.tasks[0]).toMatchObject({ cause: null, counts: { failed: 0 } });
    // tables without versions are remarked on
    expect(run.after).toMatchObject({ name: 'Berths, before it is replaced', state: 'remarks' });
    expect(db.run("SELECT COUNT(*) FROM berths.ship WHERE name = 'written since'").trim()).toBe('0');
    // and back again
    const newest = (await admin.call('workload', { id: workloadId })).pointList.findLast((p) => p.runId === run.after!.id)!;
    const again = { picks: [{ pointId: newest.id, path: 'berths/tables/ship.sql' }], destination: { to: 'original' as const } };
    const back = await admin.call('startRestore', { body: { ...again, rule: 'replace', rescue: false, reason } });
    expect((await admin.ended(back.runId)).tasks[0]).toMatchObject({ cause: null });
    expect(db.run("SELECT COUNT(*) FROM berths.ship WHERE name = 'written since'").trim()).toBe('1');

    // the point can not be taken: nothing is replaced
    const folder = `${h.folder}/store`;
    fs.renameSync(folder, `${folder}-away`);
    const before = db.dump('berths');
    const failing = await admin.call('startRestore', { body: { ...body, reason } });
    const failed = await admin.ended(failing.runId);
    fs.renameSync(`${folder}-away`, folder);
    expect(failed).toMatchObject({
      state: 'failed',
      after: { state: 'failed' },
      tasks: [{ cause: { code: 'RESCUE_FAILED' }, attempt: 0 }],
    });
    expect(db.dump('berths')).toBe(before);
  });

  it('is read although somebody makes and drops tables meanwhile', async () => {
    let over = false;
    const busy = (async () => {
      while (!over)
        await db.runBeside(
          Array.from(
            { length: 8 },
            (_, i) =>
              `CREATE DATABASE night${i}; CREATE TABLE night${i}.a (id INT); DO SLEEP(0.03); DROP DATABASE night${i}; DO SLEEP(0.1);`,
          ).join(''),
        );
    })();
    try {
      for (let i = 0; i < 4; i++) {
        const run = await protect();
        expect(run.state, run.cause?.message).toMatch(/done|remarks/);
      }
    } finally {
      over = true;
      await busy;
    }
  });

  it('has only those tables read again of which its log says that they changed', async () => {
    db.run(`CREATE DATABASE quays; USE quays; CREATE TABLE large (id INT PRIMARY KEY, note CHAR(200)); INSERT INTO large SELECT seq, MD5(seq) FROM seq_1_to_20000;
      CREATE TABLE pier (id INT PRIMARY KEY); INSERT INTO pier VALUES (1), (2);
      CREATE TABLE boat (id INT PRIMARY KEY, pier INT, CONSTRAINT at_pier FOREIGN KEY (pier) REFERENCES pier (id) ON DELETE CASCADE); INSERT INTO boat VALUES (1, 1), (2, 2);
      CREATE TABLE crew (id INT PRIMARY KEY, boat INT, CONSTRAINT on_boat FOREIGN KEY (boat) REFERENCES boat (id) ON DELETE CASCADE); INSERT INTO crew VALUES (1, 1), (2, 2);
      CREATE TABLE log_book (id INT PRIMARY KEY AUTO_INCREMENT, text VARCHAR(80)); INSERT INTO log_book (text) VALUES ('first');`);
    const policy = { ...policyFor([workloadId], targetId), name: 'Quays' };
    const rule = policy.rules[0]!;
    const kinds = ['full', 'differential', 'incremental'] as const;
    const rules = kinds.map((kind, i) => ({ ...rule, no: i + 1, kind }));
    const { id } = await admin.call('addPolicy', { body: { ...policy, rules } });
    const run = async (no: number) => {
      const { runId } = await admin.call('runPolicy', { id, body: { rule: no } });
      const { tasks } = await admin.ended(runId);
      expect(tasks[0]).toMatchObject({ cause: null });
      const { rows } = await admin.call('runLog', { id: runId, query: {} });
      return { read: tasks[0]!.counts.read, said: rows.find((r) => ['TAKEN_OVER', 'READ_WHOLE'].includes(r.code))?.message ?? '' };
    };
    const sameAgain = async () => {
      const before = db.dump('quays');
      const point = await newest();
      db.run('DROP DATABASE quays');
      const body = {
        picks: [{ pointId: point.id, path: 'quays' }],
        destination: { to: 'original' as const },
        rule: 'replace' as const,
        rescue: false,
        reason,
      };
      expect((await admin.ended((await admin.call('startRestore', { body })).runId)).tasks[0]).toMatchObject({ cause: null });
      expect(db.dump('quays')).toBe(before);
    };
    const full = await run(1);
    expect(full.said).toBe('');
    // keys take rows along without the log saying so
    db.run("USE quays; DELETE FROM pier WHERE id = 1; INSERT INTO log_book (text) VALUES ('second')");
    const some = await run(2);
    expect(some.said).toMatch(/tables? taken over/);
    expect(some.read).toBeLessThan(full.read / 3);
    await sameAgain();
    // what was dropped and made is named by statements
    const all = await run(3);
    expect(all.said).toMatch(/tables? taken over/);
    db.run("USE quays; ALTER TABLE large ADD more INT DEFAULT 7; INSERT INTO log_book (text) VALUES ('third')");
    const altered = await run(3);
    expect(altered.read).toBeGreaterThan(full.read / 3);
    await sameAgain();
    db.run('RESET MASTER');
    expect((await run(3)).said).toMatch(/^every table is read/);
    await admin.call('removePolicy', { id });
  });
});
