import { setTimeout as pause } from 'node:timers/promises';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { itLong } from '../support/by-command';
import { Harness, policyFor, type Client } from '../support/harness';
import { ProtectedDatabase } from '../support/protected-database';

let h: Harness;
let admin: Client;
let db: ProtectedDatabase;
let systemId: number;
let workloadId: number;
let policyId: number;
let targetId: string;
const reason = 'a script went wrong';
const clock = { ahead: 0 };
/** Seconds that are brought back. */
const wanted = Number(process.env['LITHODEX_SECONDS'] ?? 3);

/** Accounts whose sum never changes, and a row for every commit with what they were after it. */
const ledger = `
CREATE DATABASE ledger; USE ledger;
CREATE TABLE account (id INT PRIMARY KEY, amount BIGINT NOT NULL);
INSERT INTO account SELECT seq, 1000 FROM seq_1_to_50;
CREATE TABLE entry (id BIGINT PRIMARY KEY AUTO_INCREMENT, at BIGINT NOT NULL, a INT NOT NULL, b INT NOT NULL, amount INT NOT NULL);
CREATE TABLE tariff (id INT PRIMARY KEY, amount INT); INSERT INTO tariff SELECT seq, seq FROM seq_1_to_4812;
DELIMITER //
CREATE PROCEDURE work(IN n INT) BEGIN
  DECLARE i INT DEFAULT 0; DECLARE a INT; DECLARE b INT; DECLARE m INT;
  WHILE i < n DO
    SET a = 1 + FLOOR(RAND() * 50), b = 1 + FLOOR(RAND() * 50), m = FLOOR(RAND() * 100);
    START TRANSACTION;
    UPDATE account SET amount = amount - m WHERE id = a; UPDATE account SET amount = amount + m WHERE id = b;
    INSERT INTO entry (at, a, b, amount) VALUES (UNIX_TIMESTAMP(), a, b, m);
    COMMIT;
    SET i = i + 1;
  END WHILE;
END//
DELIMITER ;`;

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 20_000, schedulerMs: 0, clock: { now: () => Date.now() + clock.ahead } });
  admin = await h.as('administrator');
  ({ targetId } = await h.connect(admin));
  db = await ProtectedDatabase.start(`${h.folder}/protected`);
  db.run(ledger);
  ({
    id: systemId,
    workloads: [workloadId = 0],
  } = await admin.call('addSystem', { body: db.body('Berths') }));
  const body = policyFor([workloadId], targetId);
  const rule = body.rules[0]!;
  const rules = [
    { ...rule, no: 1, kind: 'full' as const, schedule: { every: 'hand' as const } },
    {
      ...rule,
      no: 2,
      kind: 'log' as const,
      schedule: { every: 'hand' as const },
      keep: { by: 'days' as const, days: 14 },
      objectiveMinutes: 30,
    },
  ];
  policyId = (await admin.call('addPolicy', { body: { ...body, rules } })).id;
});
afterAll(async () => {
  await db.stop();
  await h.stop();
});

const run = async (rule: number) => admin.ended((await admin.call('runPolicy', { id: policyId, body: { rule } })).runId);
const band = () => admin.call('databaseBand', { id: workloadId });
const restored = async (until: { at: number } | { file: string; position: number; at: number }, to: string) => {
  const { fulls } = await band();
  const body = {
    picks: [{ pointId: fulls[0]!.pointId, path: 'ledger' }],
    destination: { to: 'server' as const, systemId, databases: [{ from: 'ledger', to }] },
    until,
    reason,
  };
  return admin.ended((await admin.call('startRestore', { body })).runId);
};
/** What a ledger of then has that it should not have, or lacks: commits in their order up to that second, and accounts as they were after the last of them. */
const differences = (database: string, second: number): string[] => {
  const [count = 0, newest = 0] = db.run(`SELECT COUNT(*), COALESCE(MAX(id), 0) FROM \`${database}\`.entry`).trim().split('\t').map(Number);
  const found: string[] = [];
  const missing = db.run(`SELECT COUNT(*) FROM ledger.entry WHERE id <= ${newest}`).trim();
  if (Number(missing) !== count) found.push(`${second}: ${count} entries instead of ${missing}`);
  // an entry is written a moment before it is committed
  const late = db.run(`SELECT COUNT(*) FROM \`${database}\`.entry WHERE at > ${second}`).trim();
  if (late !== '0') found.push(`${second}: ${late} entries of later`);
  const lacks = db.run(`SELECT COUNT(*) FROM ledger.entry WHERE id > ${newest} AND at < ${second}`).trim();
  if (lacks !== '0') found.push(`${second}: ${lacks} entries are not there`);
  const off = db.run(`SELECT COUNT(*) FROM \`${database}\`.account c WHERE amount <> 1000
    + (SELECT COALESCE(SUM(amount), 0) FROM ledger.entry WHERE b = c.id AND id <= ${newest}) - (SELECT COALESCE(SUM(amount), 0) FROM ledger.entry WHERE a = c.id AND id <= ${newest})`);
  if (off.trim() !== '0') found.push(`${second}: ${off.trim()} accounts differ`);
  return found;
};
const sums = (database: string) =>
  db.run(`SELECT SUM(amount) FROM \`${database}\`.account; SELECT COUNT(*), COALESCE(MAX(at), 0) FROM \`${database}\`.entry`).trim();

describe('the log of a database server', () => {
  it(
    'leads from a full to any second, to the ledger as it was then',
    async () => {
      db.run('CALL ledger.work(40)');
      await run(1);
      expect((await run(2)).tasks[0]).toMatchObject({ cause: null });
      // somebody writes all the time
      const rounds = Math.max(6, Math.min(60, wanted));
      for (let i = 0; i < rounds; i++) {
        const writing = db.runBeside(`CALL ledger.work(${wanted > 3 ? 400 : 25})${i % 3 ? '' : '; FLUSH BINARY LOGS'}`);
        if (i % 2) await run(2);
        await Promise.all([writing, pause(700)]);
      }
      await run(2);
      const { stretches, fulls } = await band();
      expect(fulls).toHaveLength(1);
      expect(stretches).toMatchObject([{ from: fulls[0]!.moment, cause: '' }]);
      const { from, to } = stretches[0]!;
      const wrong: string[] = [];
      for (let i = 0; i < wanted; i++) {
        const share = wanted > 3 ? Math.random() : [0, 0.6, 1][i]!;
        const at = Math.floor((from! + (to - from!) * share) / 1000) * 1000;
        const { tasks } = await restored({ at }, 'then');
        expect(tasks[0]).toMatchObject({ cause: null, counts: { failed: 0 } });
        wrong.push(...differences('then', at / 1000));
        db.run('DROP DATABASE `then`');
      }
      expect(wrong).toEqual([]);
    },
    240_000 + wanted * 10_000,
  );

  it('tells what was done around a moment, and brings one table back as it was right before a commit', async () => {
    db.run('CALL ledger.work(3)');
    await pause(1100);
    db.run('USE ledger; DELETE FROM tariff; INSERT INTO entry (at, a, b, amount) VALUES (UNIX_TIMESTAMP(), 1, 2, 3)');
    await run(2);
    const { notable } = await band();
    const gone = notable.at(-1)!;
    expect(gone).toMatchObject({
      statement: 'DELETE FROM tariff',
      tables: [{ database: 'ledger', table: 'tariff', change: 'deleted', rows: 4812 }],
    });
    const { rows } = await admin.call('databaseCommits', { id: workloadId, query: { at: gone.at, before: 3, after: 3 } });
    expect(rows.map((r) => r.position)).toContain(gone.position);
    const { fulls } = await band();
    const body = {
      picks: [{ pointId: fulls[0]!.pointId, path: 'ledger/tables/tariff.sql' }],
      destination: { to: 'original' as const },
      rule: 'replace' as const,
      rescue: false,
      until: { file: gone.file, position: gone.position, at: gone.at },
      reason,
    };
    const plan = await admin.call('planRestore', { body });
    expect(plan.checks.map((c) => c.code)).toContain('CHAIN');
    const { tasks } = await admin.ended((await admin.call('startRestore', { body })).runId);
    expect(tasks[0]).toMatchObject({ cause: null, counts: { failed: 0, items: 1 } });
    expect(db.run('SELECT COUNT(*), SUM(amount) FROM ledger.tariff').trim()).toBe('4812\t11580078');
  });

  itLong('is stored in few parts, however little comes at a time, and lacks none of it', async () => {
    const read: number[] = [];
    for (let i = 0; i < 19; i++) {
      db.run('CALL ledger.work(1)');
      read.push((await run(2)).tasks[0]!.counts.read);
    }
    // what consists of many parts is read once more, and stored as one
    expect(Math.max(...read)).toBeGreaterThan(10 * Math.min(...read));
    expect(read.filter((bytes) => bytes > 4 * Math.min(...read)).length).toBeLessThan(4);
    await pause(2100);
    await run(2);
    const { to } = (await band()).stretches.at(-1)!;
    expect((await restored({ at: to }, 'parts')).tasks[0]).toMatchObject({ cause: null, counts: { failed: 0 } });
    const all = (name: string) => db.run(`SELECT * FROM \`${name}\`.account; SELECT * FROM \`${name}\`.entry`);
    expect(all('parts')).toBe(all('ledger'));
    db.run('DROP DATABASE parts');
  });

  it('says of a purged log and of a reset one that there is a gap, and refuses moments in it', async () => {
    await pause(2100);
    await run(2);
    const before = (await band()).stretches.at(-1)!;
    db.run('CALL ledger.work(5); FLUSH BINARY LOGS; CALL ledger.work(5); FLUSH BINARY LOGS');
    db.run('PURGE BINARY LOGS BEFORE NOW() + INTERVAL 1 HOUR');
    await pause(1100);
    const purged = await run(2);
    expect(purged).toMatchObject({ state: 'remarks' });
    // what was whole before the gap still is, also while nothing was written since
    expect((await restored({ at: before.to }, 'across')).tasks[0]).toMatchObject({ cause: null });
    const { stretches } = await band();
    expect(stretches).toHaveLength(2);
    expect(stretches[1]).toMatchObject({ cause: expect.stringContaining('purged') });
    const matters = async () => (await admin.call('watch', { query: {} })).matters.map((m) => m.title);
    expect(await matters()).toContainEqual(expect.stringMatching(/^No second of Berths since .* can be brought back$/));
    // a full is taken by itself, so that seconds can be reached again
    await expect.poll(async () => (await band()).fulls.length, { timeout: 30_000 }).toBe(2);
    await pause(2100);
    await run(2);
    expect((await band()).stretches[1]!.from).not.toBeNull();
    expect(await matters()).toContainEqual(expect.stringMatching(/^4.812 rows of Berths are gone at once$/));
    const inside = { at: before.to + 1000 };
    await expect(restored(inside, 'never')).rejects.toMatchObject({ code: 'INVALID' });
    expect((await restored({ at: before.to }, 'before_gap')).tasks[0]).toMatchObject({ cause: null });
    await pause(1100);
    db.run('RESET MASTER; CALL ledger.work(20)');
    await run(2);
    await pause(1100);
    db.run('RESET MASTER; CALL ledger.work(60)');
    await run(2);
    expect((await band()).stretches.at(-1)).toMatchObject({ cause: expect.stringContaining('set back') });
    // names of files begin anew, and nothing of one stretch is taken for another
    expect((await restored({ at: before.to }, 'long_before')).tasks[0]).toMatchObject({ cause: null });
    expect(sums('long_before')).toBe(sums('before_gap'));
  });

  itLong('reaches seconds in which nothing was done, and ends with the full where nothing was done since', async () => {
    await run(1);
    await pause(2100);
    await run(2);
    const { stretches, fulls } = await band();
    const last = stretches.at(-1)!;
    expect(last.to).toBeGreaterThan(fulls.at(-1)!.moment);
    expect((await restored({ at: last.to }, 'idle')).tasks[0]).toMatchObject({ cause: null });
    expect(sums('idle')).toBe(sums('ledger'));
  });

  it('comes to the last second of its log in a sequence that is started as it is', async () => {
    await run(1);
    await pause(1100);
    db.run('CALL ledger.work(12)');
    await pause(2100);
    await run(2);
    const then = sums('ledger');
    db.run('DROP TABLE ledger.entry; UPDATE ledger.account SET amount = 0');
    const steps = [{ restore: { by: 'workload' as const, id: workloadId }, after: [], wait: 0 }];
    const { id } = await admin.call('addSequence', { body: { name: 'Berths first', steps, objective: null } });
    const [look] = (await admin.call('lookAtSequence', { id })).steps;
    expect(look!.moments).toEqual([(await band()).stretches.at(-1)!.to]);
    const begun = await admin.call('startSequence', { id, body: { reason } });
    const state = async () => {
      await h.tick();
      return (await admin.call('getSequenceRun', { id: begun.id })).state;
    };
    await expect.poll(state, { timeout: 60_000, interval: 200 }).not.toBe('running');
    expect(await admin.call('getSequenceRun', { id: begun.id })).toMatchObject({ state: 'done', steps: [{ says: '' }] });
    expect(sums('ledger')).toBe(then);
  });

  itLong('goes on in another installation that took the target over, and knows what it has to connect', async () => {
    const passphrase = 'a lantern at the end of the quay';
    const { content: envelope } = await admin.call('envelope', { id: targetId, body: { passphrase } });
    await h.server.scheduler.keeper.round();
    const before = await band();
    await h.killMover('mover-1');
    const second = await Harness.start({ leaseMs: 20_000, schedulerMs: 0 });
    try {
      const heir = await second.as('administrator');
      await second.moverReady();
      const place = { kind: 'folder' as const, folder: `${h.folder}/store` };
      const { runId, id } = await heir.call('takeOverTarget', { body: { name: 'heirloom', place, envelope, passphrase } });
      expect((await heir.ended(runId)).state).toBe('done');
      const [row] = (await heir.call('estate', { query: { show: 'points' } })).workloads;
      expect(row).toMatchObject({ name: 'Berths', kind: 'database', gone: expect.any(Number) });
      const kept = await heir.call('keptSettings', { id });
      expect(JSON.stringify(kept)).toContain(`mariadb://127.0.0.1:${db.port}`);
      const made = await heir.call('addSystem', { body: db.body('Berths') });
      expect(made.workloads).toEqual([row!.id]);
      const now = await heir.call('databaseBand', { id: row!.id });
      expect(now.stretches).toEqual(before.stretches);
      const body = {
        picks: [{ pointId: now.fulls.at(-1)!.pointId, path: 'ledger' }],
        destination: { to: 'server' as const, systemId: made.id, databases: [{ from: 'ledger', to: 'heired' }] },
        until: { at: now.stretches.find((r) => r.from !== null)!.to },
        reason,
      };
      expect((await heir.ended((await heir.call('startRestore', { body })).runId)).tasks[0]).toMatchObject({ cause: null });
      expect(sums('heired')).toContain('50000');
    } finally {
      await second.stop();
      h.startMover('mover-1');
    }
  });

  it('tells within a round that the newest second has become older than it may be', async () => {
    const titles = async () => (await admin.call('watch', { query: {} })).matters.map((m) => m.title);
    expect((await band()).objectiveMinutes).toBe(30);
    expect(await titles()).not.toContainEqual(expect.stringContaining('The newest second of Berths'));
    clock.ahead = 31 * 60_000;
    expect(await titles()).toContainEqual(expect.stringMatching(/^The newest second of Berths is 31 min( \d+ s)? old$/));
    clock.ahead = 0;
    const { body } = await admin.call('getPolicy', { id: policyId });
    const codes = async (change: object) => {
      const rules = body.rules.map((r) => (r.kind === 'log' ? { ...r, ...change } : r));
      return (await admin.call('consequences', { body: { id: policyId, body: { ...body, rules } } })).warnings.map((w) => w.code);
    };
    expect(await codes({ schedule: { every: 'minutes', minutes: 30 }, objectiveMinutes: 15 })).toContain('SECONDS_TOO_OLD');
    expect(await codes({ schedule: { every: 'minutes', minutes: 10 }, objectiveMinutes: 15 })).not.toContain('SECONDS_TOO_OLD');
  });

  it('says what a policy with a log needs', async () => {
    const { body } = await admin.call('getPolicy', { id: policyId });
    const warnings = async (rules: typeof body.rules, more: object = {}) =>
      (await admin.call('consequences', { body: { id: policyId, body: { ...body, ...more, rules } } })).warnings.map((w) => w.code);
    expect(await warnings(body.rules)).not.toContain('LOG_ALONE');
    expect(await warnings([body.rules[1]!])).toContain('LOG_ALONE');
    expect(await warnings(body.rules, { exclude: ['ledger'] })).toContain('LOG_IS_WHOLE');
  });

  it('says that a log is off', async () => {
    const off = await ProtectedDatabase.start(`${h.folder}/off`, false);
    try {
      const body = off.body('Quiet');
      expect((await admin.call('testSystem', { body: { body } })).remarks).toEqual([expect.stringContaining('writes no log')]);
    } finally {
      await off.stop();
    }
  });
});
