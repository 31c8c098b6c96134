import { setTimeout as pause } from 'node:timers/promises';
import type { BodyInput } from '@lithodex/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { forgetOfLog, inTransaction } from '@lithodex/server';
import { Harness, policyFor, type Client } from '../support/harness';
import { ProtectedDatabase } from '../support/protected-database';
import { ProtectedPostgresql } from '../support/protected-postgresql';

/** A server with a table of entries, to which one can be added by a commit of its own. */
interface Entries {
  readonly body: BodyInput<'addSystem'>;
  /** Adds entries, a commit each, and gives the second after the last. */
  readonly add: (count: number) => Promise<number>;
  /** Their numbers, as a database has them. */
  readonly of: (database: string) => string;
  readonly stop: () => Promise<void>;
}

const nowSecond = () => Math.floor(Date.now() / 1000);

async function mariadb(folder: string): Promise<Entries> {
  const db = await ProtectedDatabase.start(folder);
  db.run('CREATE DATABASE tides; CREATE TABLE tides.entry (id INT PRIMARY KEY AUTO_INCREMENT, at DATETIME DEFAULT NOW())');
  return {
    body: db.body('Berths'),
    add: async (count) => {
      for (let i = 0; i < count; i++) db.run('INSERT INTO tides.entry () VALUES ()');
      return Promise.resolve(nowSecond());
    },
    of: (database) => db.run(`SELECT GROUP_CONCAT(id ORDER BY id) FROM \`${database}\`.entry`).trim(),
    stop: () => db.stop(),
  };
}

async function postgresql(folder: string): Promise<Entries> {
  const db = await ProtectedPostgresql.start(folder);
  db.run('CREATE DATABASE tides');
  db.run('CREATE TABLE entry (id serial PRIMARY KEY, at timestamptz DEFAULT now())', 'tides');
  return {
    body: db.body('Tide'),
    add: async (count) => {
      for (let i = 0; i < count; i++) db.run('INSERT INTO entry DEFAULT VALUES', 'tides');
      return Promise.resolve(nowSecond());
    },
    of: (database) => db.run("SELECT string_agg(id::text, ',' ORDER BY id) FROM entry", database).trim(),
    stop: () => db.stop(),
  };
}

describe.each([
  { family: 'MariaDB', begin: mariadb },
  { family: 'PostgreSQL', begin: postgresql },
])('a log of $family that is followed', ({ family, begin }) => {
  let h: Harness;
  let admin: Client;
  let db: Entries;
  let systemId: number;
  let workloadId: number;
  let policyId: number;
  let policy: BodyInput<'addPolicy'>;
  const ahead = { ms: 0 };

  beforeAll(async () => {
    h = await Harness.start({ movers: 2, schedulerMs: 300, clock: { now: () => Date.now() + ahead.ms } });
    admin = await h.as('administrator');
    const { targetId } = await h.connect(admin);
    db = await begin(`${h.folder}/protected`);
    ({
      id: systemId,
      workloads: [workloadId = 0],
    } = await admin.call('addSystem', { body: db.body }));
    const body = policyFor([workloadId], targetId);
    const rule = body.rules[0]!;
    const days = { by: 'days' as const, days: 14 };
    policy = {
      ...body,
      rules: [
        { ...rule, no: 1, kind: 'full', schedule: { every: 'hand' } },
        { ...rule, no: 2, kind: 'log', schedule: { every: 'moment' }, keep: days, objectiveMinutes: 1 },
      ],
    };
    policyId = (await admin.call('addPolicy', { body: policy })).id;
    await admin.ended((await admin.call('runPolicy', { id: policyId, body: { rule: 1 } })).runId);
  });
  afterAll(async () => {
    await db.stop();
    await h.stop();
  });

  const band = () => admin.call('databaseBand', { id: workloadId });
  const following = async () => {
    const { rows } = await admin.call('listRuns', { query: { states: 'running', policy: policyId } });
    return rows;
  };
  const newest = async () => {
    const { rows } = await admin.call('listRuns', { query: { policy: policyId, limit: 3 } });
    return Promise.all(rows.map(async ({ id }) => (await admin.call('getRun', { id })).tasks));
  };
  /** Waits until the log is known up to a second. */
  const reaches = async (second: number) => {
    for (const until = Date.now() + 60_000; ;) {
      const { stretches } = await band();
      if ((stretches.at(-1)?.to ?? 0) >= (second + 1) * 1000 && stretches.at(-1)!.from !== null) return stretches;
      if (Date.now() > until) throw new Error(`it does not reach ${second}: ${JSON.stringify([stretches, await newest()])}`);
      await pause(100);
    }
  };
  const logPoints = () =>
    h.server.deps
      .db('point as p')
      .join('series as s', 's.no', 'p.series_no')
      .where({ 's.workload_id': workloadId, 's.method': 'log' })
      .select<{ id: string; state: string; run_id: number }[]>('p.id', 'p.state', 'p.run_id');
  const restored = async (at: number, to: string) => {
    const { fulls } = await band();
    const body = {
      picks: [{ pointId: fulls[0]!.pointId, path: 'tides' }],
      destination: { to: 'server' as const, systemId, databases: [{ from: 'tides', to }] },
      until: { at },
      reason: 'to see what was there then',
    };
    return admin.ended((await admin.call('startRestore', { body })).runId);
  };

  it('goes on without a pause in one run, of which the two newest points stand', async () => {
    const seconds: number[] = [];
    for (let i = 0; i < 3; i++) {
      seconds.push(await db.add(5));
      await reaches(seconds.at(-1)!);
    }
    expect(await following()).toHaveLength(1);
    const all = await logPoints();
    expect(new Set(all.map((p) => p.run_id)).size).toBe(1);
    expect(all.length).toBeGreaterThan(2);
    expect(all.filter((p) => p.state === 'visible')).toHaveLength(2);
    expect((await restored(seconds[1]! * 1000, 'then')).tasks[0]).toMatchObject({ cause: null });
    expect(db.of('then')).toBe(db.of('tides').split(',').slice(0, 10).join(','));
  });

  it('goes on by another mover when its own is killed, and lacks nothing', async () => {
    const [{ id } = { id: 0 }] = await following();
    const mover = (await admin.call('getRun', { id })).tasks[0]!.mover!;
    const writing = db.add(10);
    await h.killMover(mover);
    const second = await writing;
    const stretches = await reaches(second);
    expect(stretches).toHaveLength(1);
    expect((await following()).map((r) => r.id)).toEqual([id]);
    expect((await admin.call('getRun', { id })).tasks[0]!.mover).not.toBe(mover);
    expect((await restored(second * 1000, 'later')).tasks[0]).toMatchObject({ cause: null });
    expect(db.of('later')).toBe(db.of('tides'));
    h.startMover(mover);
  });

  it('ends well after an hour, has the points it made needless removed, and another run goes on', async () => {
    const [{ id } = { id: 0 }] = await following();
    ahead.ms += 3_600_000;
    await db.add(1);
    expect(await admin.ended(id)).toMatchObject({ state: 'done' });
    for (const until = Date.now() + 30_000; !(await following()).length && Date.now() < until;) await pause(100);
    expect((await following())[0]!.id).toBeGreaterThan(id);
    const removed = () =>
      h.server.deps.db('task').where({ type: 'expire', state: 'done' }).select<{ work: { points: string[] } }[]>('work');
    for (const until = Date.now() + 30_000; !(await removed()).length && Date.now() < until;) await pause(100);
    const points = (await removed()).flatMap((t) => t.work.points);
    const before = (await logPoints()).filter((p) => p.run_id === id);
    expect(points.length).toBeGreaterThanOrEqual(before.length - 3);
    // of those that were let go a while ago, the last of each hour stays known
    const { db: database } = h.server.deps;
    const series = await database('series').where({ workload_id: workloadId, method: 'log' }).first<Parameters<typeof forgetOfLog>[2]>();
    await inTransaction(database, (trx) => forgetOfLog(trx, Date.now() + ahead.ms + 2 * 86_400_000, series));
    const all = await logPoints();
    const left = all.filter((p) => p.run_id === id);
    const visible = (some: typeof all) => some.filter((p) => p.state === 'visible').map((p) => p.id);
    // the run that goes on may have let some of them go meanwhile
    expect(visible(before)).toEqual(expect.arrayContaining(visible(left)));
    expect(visible(all).length).toBeGreaterThan(0);
    expect(left.filter((p) => p.state !== 'visible').length).toBeLessThanOrEqual(2);
  });

  it('ends well when its policy wants something else, and can be stopped by hand', async () => {
    const [{ id } = { id: 0 }] = await following();
    await admin.call('stopRun', { id });
    expect(await admin.ended(id)).toMatchObject({ state: 'stopped' });
    let next = id;
    for (const until = Date.now() + 30_000; next === id && Date.now() < until;) next = (await following())[0]?.id ?? id;
    const [full, log] = policy.rules;
    await admin.call('changePolicy', { id: policyId, body: { ...policy, rules: [full!, { ...log!, schedule: { every: 'hand' } }] } });
    await db.add(1);
    expect(await admin.ended(next)).toMatchObject({ state: 'done' });
    expect(await following()).toEqual([]);
  });

  it('takes no place of other work, and only a log is followed', async () => {
    const [full, log] = policy.rules;
    const followed = { ...full!, schedule: { every: 'moment' as const } };
    await expect(admin.call('addPolicy', { body: { ...policy, name: 'Odd', rules: [followed] } })).rejects.toMatchObject({
      code: 'INVALID',
    });
    const locked = { ...log!, lockDays: 3 };
    await expect(admin.call('addPolicy', { body: { ...policy, name: 'Odd', rules: [full!, locked] } })).rejects.toMatchObject({
      code: 'INVALID',
    });
    // only the log of one family tells tables, which the policy says
    const read = { ...policy, rules: [full!, { ...full!, no: 3, kind: 'differential' as const }] };
    const { warnings } = await admin.call('consequences', { body: { id: null, body: read } });
    expect(warnings.some((w) => w.code === 'READS_EVERYTHING')).toBe(family === 'PostgreSQL');
    await admin.call('changePolicy', { id: policyId, body: policy });
    await h.server.deps.db('source').where({ id: systemId }).update({ readers: 1 });
    for (const until = Date.now() + 30_000; !(await following()).length && Date.now() < until;) await pause(100);
    const full1 = await admin.ended((await admin.call('runPolicy', { id: policyId, body: { rule: 1 } })).runId);
    expect(full1.tasks[0]).toMatchObject({ cause: null });
    expect(await following()).toHaveLength(1);
  });
});
