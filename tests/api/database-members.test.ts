import { setTimeout as pause } from 'node:timers/promises';
import type { BodyInput, RunDetail } from '@lithodex/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';
import { ProtectedDatabase } from '../support/protected-database';
import { ProtectedPostgresql } from '../support/protected-postgresql';

/** A server with a replica that follows it, and rows that are added to one table. */
interface Group {
  readonly body: BodyInput<'addSystem'>;
  readonly replica: { readonly host: string; readonly port: number };
  readonly write: (rows: number) => void;
  readonly rows: (database: string) => string;
  readonly replicated: () => string;
  /** Lets the replica stay behind from now on. */
  readonly halt: () => void;
  readonly stopReplica: () => Promise<void>;
  readonly stop: () => Promise<void>;
}

async function mariadb(folder: string): Promise<Group> {
  const db = await ProtectedDatabase.start(`${folder}/a`);
  db.run('CREATE DATABASE tides; CREATE TABLE tides.level (id INT PRIMARY KEY AUTO_INCREMENT, at DATETIME DEFAULT NOW())');
  const b = await db.replica(`${folder}/b`);
  const count = (of: ProtectedDatabase, name: string) => of.run(`SELECT GROUP_CONCAT(id ORDER BY id) FROM \`${name}\`.level`).trim();
  return {
    body: db.body('Berths'),
    replica: { host: '127.0.0.1', port: b.port },
    write: (rows) => {
      for (let i = 0; i < rows; i++) db.run('INSERT INTO tides.level () VALUES ()');
    },
    rows: (name) => count(db, name),
    replicated: () => count(b, 'tides'),
    halt: () => {
      b.run('STOP SLAVE SQL_THREAD');
    },
    stopReplica: () => b.stop(),
    stop: () => db.stop(),
  };
}

async function postgresql(folder: string): Promise<Group> {
  const db = await ProtectedPostgresql.start(`${folder}/a`);
  db.run('CREATE DATABASE tides');
  db.run('CREATE TABLE level (id serial PRIMARY KEY, at timestamptz DEFAULT now())', 'tides');
  const b = await db.replica(`${folder}/b`);
  const all = "SELECT string_agg(id::text, ',' ORDER BY id) FROM level";
  return {
    body: db.body('Tide'),
    replica: { host: '127.0.0.1', port: b.port },
    write: (rows) => {
      for (let i = 0; i < rows; i++) db.run('INSERT INTO level DEFAULT VALUES', 'tides');
    },
    rows: (name) => db.run(all, name).trim(),
    replicated: () => b.run(all, 'tides').trim(),
    halt: () => {
      b.run('SELECT pg_wal_replay_pause()');
    },
    stopReplica: () => b.stop(),
    stop: () => db.stop(),
  };
}

describe.each([
  { family: 'MariaDB', begin: mariadb },
  { family: 'PostgreSQL', begin: postgresql },
])('a replication group of $family', ({ begin }) => {
  let h: Harness;
  let admin: Client;
  let db: Group;
  let systemId: number;
  let workloadId: number;
  let policyId: number;
  let body: BodyInput<'addSystem'>;

  beforeAll(async () => {
    h = await Harness.start({ leaseMs: 20_000, schedulerMs: 0 });
    admin = await h.as('administrator');
    const { targetId } = await h.connect(admin);
    db = await begin(`${h.folder}/protected`);
    db.write(5);
    for (const until = Date.now() + 30_000; db.replicated() !== db.rows('tides') && Date.now() < until;) await pause(100);
    const { address, ...more } = db.body;
    if (address.kind !== 'database') throw new Error('a database server was meant');
    body = { ...more, address: { ...address, replicas: { members: [db.replica], behindSeconds: 2 } } };
    ({
      id: systemId,
      workloads: [workloadId = 0],
    } = await admin.call('addSystem', { body }));
    const policy = policyFor([workloadId], targetId);
    const rule = policy.rules[0]!;
    const rules: typeof policy.rules = [
      { ...rule, no: 1, kind: 'full' },
      { ...rule, no: 2, kind: 'log', keep: { by: 'days', days: 14 } },
    ];
    policyId = (await admin.call('addPolicy', { body: { ...policy, rules } })).id;
  });
  afterAll(async () => {
    await db.stop();
    await h.stop();
  });

  const run = async (rule: number): Promise<RunDetail> => {
    const done = await admin.ended((await admin.call('runPolicy', { id: policyId, body: { rule } })).runId);
    expect(done.tasks[0]).toMatchObject({ cause: null });
    return done;
  };
  const saidOf = async ({ id }: RunDetail): Promise<string> => {
    const { rows } = await admin.call('runLog', { id, query: {} });
    return rows.find((line) => line.code === 'MEMBER')?.message ?? '';
  };
  const restored = async (at: number, to: string): Promise<string> => {
    const { fulls } = await admin.call('databaseBand', { id: workloadId });
    const restore = {
      picks: [{ pointId: fulls[0]!.pointId, path: 'tides' }],
      destination: { to: 'server' as const, systemId, databases: [{ from: 'tides', to }] },
      until: { at },
      reason: 'to see what was there then',
    };
    const { tasks } = await admin.ended((await admin.call('startRestore', { body: restore })).runId);
    expect(tasks[0]).toMatchObject({ cause: null });
    return db.rows(to);
  };

  it('is read from the replica while that follows, and the log of its server leads on from there', async () => {
    const member = `${db.replica.host}:${db.replica.port}`;
    const { message, remarks } = await admin.call('testSystem', { body: { id: systemId, body } });
    expect(message).toContain(`The replica ${member} is up to date`);
    expect(remarks.join()).not.toContain(member);
    // somebody writes all the time
    const { runId } = await admin.call('runPolicy', { id: policyId, body: { rule: 1 } });
    while (['waiting', 'running'].includes((await admin.call('getRun', { id: runId })).state)) db.write(2);
    expect(await saidOf(await admin.ended(runId))).toContain(`read from the replica ${member}`);
    // seconds are reached from the one after the full on
    await pause(1100);
    db.write(3);
    const then = db.rows('tides');
    const second = Math.floor(Date.now() / 1000) * 1000;
    await pause(1100);
    db.write(4);
    await pause(2100);
    expect((await run(2)).state).toBe('done');
    const { stretches } = await admin.call('databaseBand', { id: workloadId });
    expect(stretches).toMatchObject([{ cause: '' }]);
    expect(await restored(second, 'then')).toBe(then);
    expect(await restored(stretches[0]!.to, 'newest')).toBe(db.rows('tides'));
  });

  it('is read from the server itself where the replica stays behind or is away, and says so', async () => {
    db.halt();
    db.write(1);
    await pause(3000);
    expect(await saidOf(await run(1))).toMatch(/does not follow its server|behind/);
    await db.stopReplica();
    expect(await saidOf(await run(1))).toContain('the server itself is read');
    const { remarks } = await admin.call('testSystem', { body: { id: systemId, body } });
    expect(remarks.join()).toContain('would not be read now');
  });

  it('has its password sent to a replica only that it was given for', async () => {
    const elsewhere = { ...body.address, replicas: { members: [{ host: '127.0.0.1', port: 9 }], behindSeconds: 2 } };
    await expect(admin.call('changeSystem', { id: systemId, body: { ...body, secret: null, address: elsewhere } })).rejects.toMatchObject({
      code: 'INVALID',
    });
    const fewer = { ...body.address, replicas: null };
    await admin.call('changeSystem', { id: systemId, body: { ...body, secret: null, address: fewer } });
    expect(await saidOf(await run(1))).toBe('');
  });
});
