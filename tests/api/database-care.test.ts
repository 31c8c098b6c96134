import { spawnSync } from 'node:child_process';
import fs from 'node:fs';
import { tmpdir } from 'node:os';
import path from 'node:path';
import { setTimeout as pause } from 'node:timers/promises';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { certificates } from '../support/certificates';
import { Harness, policyFor, Refused, type Client } from '../support/harness';
import { ProtectedDatabase } from '../support/protected-database';

/** Tried once more, or more often where a machine is so busy that a mover misses its lease. */
const again: unknown = expect.toSatisfy((attempt: number) => attempt > 1);

let h: Harness;
let admin: Client;
let db: ProtectedDatabase;
let targetId: string;
let systemId: number;
let workloadId: number;
let policyId: number;
const reason = 'a drill';

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 4000, schedulerMs: 200 });
  admin = await h.as('administrator');
  ({ targetId } = await h.connect(admin));
  db = await ProtectedDatabase.start(`${h.folder}/protected`);
  // enough for the middle of something to be met
  db.run(`CREATE DATABASE quay; USE quay; CREATE TABLE crate (id INT PRIMARY KEY, note VARCHAR(200)); CREATE TABLE other (id INT PRIMARY KEY);
    INSERT INTO crate SELECT seq, CONCAT(seq, REPEAT(MD5(seq), 5)) FROM seq_1_to_120000; INSERT INTO other VALUES (1);`);
  ({
    id: systemId,
    workloads: [workloadId = 0],
  } = await admin.call('addSystem', { body: db.body('Quay') }));
  const body = policyFor([workloadId], targetId);
  const rule = { ...body.rules[0]!, schedule: { every: 'hand' as const } };
  const rules = [
    { ...rule, no: 1, kind: 'full' as const },
    { ...rule, no: 2, kind: 'log' as const, keep: { by: 'days' as const, days: 14 } },
  ];
  policyId = (await admin.call('addPolicy', { body: { ...body, rules } })).id;
});
afterAll(async () => {
  await db.stop();
  await h.stop();
});

const start = async (rule: number) => (await admin.call('runPolicy', { id: policyId, body: { rule } })).runId;
const taskOf = async (runId: number) => (await admin.ended(runId)).tasks[0]!;
const points = async () => (await admin.call('workload', { id: workloadId })).pointList.filter((p) => !p.expired);
/** Waits until a run does something. */
const underWay = async (runId: number, phase: RegExp) => {
  for (;;) {
    const { tasks, state } = await admin.call('getRun', { id: runId });
    if (phase.test(tasks[0]?.progress?.phase ?? '') || !['waiting', 'running'].includes(state)) return;
    await pause(10);
  }
};
/** Waits until the reading of the server has begun: what is told of it comes later. */
const running = async (runId: number) => {
  while ((await admin.call('getRun', { id: runId })).state === 'waiting') await pause(5);
  await pause(150);
};
const tablesOf = (database: string) =>
  db.run(`SELECT table_name FROM information_schema.tables WHERE table_schema = '${database}' ORDER BY 1`).trim().split('\n');
const killMover = async () => {
  const [name, mover] = [...h.movers][0]!;
  mover.kill('SIGKILL');
  await new Promise((resume) => mover.once('exit', resume));
  h.startMover(name);
};

describe('a database server and what is killed', () => {
  it('is backed up all the same when the mover is killed in the middle, as whole as ever', async () => {
    const runId = await start(1);
    await running(runId);
    await killMover();
    expect(await taskOf(runId)).toMatchObject({ cause: null, attempt: again });
    const { id: pointId } = (await points())[0]!;
    const body = {
      picks: [{ pointId, path: '' }],
      destination: { to: 'server' as const, systemId, databases: [{ from: 'quay', to: 'again' }] },
      reason,
    };
    expect(await taskOf((await admin.call('startRestore', { body })).runId)).toMatchObject({ cause: null, counts: { failed: 0 } });
    expect(db.run('CHECKSUM TABLE again.crate, again.other').replaceAll('again', 'quay')).toBe(
      db.run('CHECKSUM TABLE quay.crate, quay.other'),
    );
    db.run('DROP DATABASE again');
  });

  it('is restored once and whole when the mover is killed in the middle, and nothing temporary stays', async () => {
    const { id: pointId } = (await points())[0]!;
    db.run('DELETE FROM quay.crate WHERE id > 100');
    const body = {
      picks: [{ pointId, path: 'quay' }],
      destination: { to: 'original' as const },
      rule: 'replace' as const,
      rescue: false,
      reason,
    };
    const { runId } = await admin.call('startRestore', { body });
    await underWay(runId, /loading/);
    await killMover();
    expect(await taskOf(runId)).toMatchObject({ cause: null, attempt: again });
    expect(db.run('SELECT COUNT(*) FROM quay.crate').trim()).toBe('120000');
    expect(tablesOf('quay')).toEqual(['crate', 'other']);
  });

  it('leaves no point when the server is killed in the middle, says why, and goes on after', async () => {
    const before = (await points()).length;
    const runId = await start(1);
    await running(runId);
    process.kill(db.pid, 'SIGKILL');
    expect(await taskOf(runId)).toMatchObject({ state: 'failed', cause: { code: expect.stringMatching(/^(DATABASE_AWAY|DUMP_FAILED)$/) } });
    expect((await points()).length).toBe(before);
    await db.restart();
    expect(await taskOf(await start(1))).toMatchObject({ cause: null });
  });

  it('puts nothing in place when the restore is stopped, and tidies up', async () => {
    const { id: pointId } = (await points())[0]!;
    db.run('CREATE DATABASE aside; CREATE TABLE aside.crate (id INT)');
    const body = {
      picks: [{ pointId, path: 'quay' }],
      destination: { to: 'server' as const, systemId, databases: [{ from: 'quay', to: 'aside' }] },
      rule: 'replace' as const,
      rescue: false,
      reason,
    };
    const { runId } = await admin.call('startRestore', { body });
    await underWay(runId, /loading/);
    await admin.call('stopRun', { id: runId });
    expect(await taskOf(runId)).toMatchObject({ state: 'stopped' });
    expect(tablesOf('aside')).toEqual(['crate']);
    expect(db.run('SELECT COUNT(*) FROM aside.crate').trim()).toBe('0');
  });

  it('makes the second again when the scratch server is killed with its mover', async () => {
    await start(1).then(taskOf);
    await start(2).then(taskOf);
    db.run('USE quay; INSERT INTO other VALUES (2), (3)');
    await pause(1100);
    await start(2).then(taskOf);
    const { fulls, stretches } = await admin.call('databaseBand', { id: workloadId });
    const body = {
      picks: [{ pointId: fulls.at(-1)!.pointId, path: 'quay/tables/other.sql' }],
      destination: { to: 'original' as const },
      rule: 'replace' as const,
      rescue: false,
      until: { at: stretches.at(-1)!.to },
      reason,
    };
    const { runId } = await admin.call('startRestore', { body });
    await underWay(runId, /loading the full/);
    await killMover();
    expect(await taskOf(runId)).toMatchObject({ cause: null, attempt: again });
    expect(db.run('SELECT COUNT(*) FROM quay.other').trim()).toBe('3');
    // neither the server that was killed with its mover nor its folder is left; those of other tests have movers that live
    const owners = (text: string) => [...text.matchAll(/lithodex-scratch-(\d+)-/g)].map((m) => Number(m[1]));
    const left = [
      ...owners(fs.readdirSync(tmpdir()).join(' ')),
      ...owners(spawnSync('pgrep', ['-af', 'lithodex-scratch-'], { encoding: 'utf8' }).stdout),
    ];
    expect(left.filter((pid) => !fs.existsSync(`/proc/${pid}`))).toEqual([]);
  });

  it('never passes over a log that is damaged or gone on the target', async () => {
    const store = `${h.folder}/store`;
    const files = () =>
      fs
        .readdirSync(store, { recursive: true, encoding: 'utf8' })
        .filter((f) => f.includes('pack') && fs.statSync(path.join(store, f)).isFile());
    const packs = files();
    db.run('USE quay; INSERT INTO other VALUES (4)');
    await pause(1100);
    await start(2).then(taskOf);
    const fresh = files().filter((f) => !packs.includes(f));
    expect(fresh.length).toBeGreaterThan(0);
    for (const file of fresh) {
      const whole = path.join(store, file);
      fs.chmodSync(whole, 0o600);
      const data = fs.readFileSync(whole);
      for (let at = 0; at < data.length; at += 40) data[at]! ^= 0x55;
      fs.writeFileSync(whole, data);
    }
    const { fulls, stretches } = await admin.call('databaseBand', { id: workloadId });
    const body = {
      picks: [{ pointId: fulls.at(-1)!.pointId, path: 'quay' }],
      destination: { to: 'server' as const, systemId, databases: [{ from: 'quay', to: 'never' }] },
      until: { at: stretches.at(-1)!.to },
      reason,
    };
    const started = admin.call('startRestore', { body }).then(({ runId }) => taskOf(runId));
    expect(await started).toMatchObject({ state: 'failed' });
    expect(db.run("SHOW DATABASES LIKE 'never'")).toBe('');
  });
});

describe('an encrypted connection', () => {
  it('reads and restores where the certificate is that of the server, and goes no further where it is not', async () => {
    const { authority, certificate, key } = certificates(`${h.folder}/certificates`, '127.0.0.1');
    const options = [`--ssl-cert=${certificate}`, `--ssl-key=${key}`];
    const other = certificates(`${h.folder}/other`, '127.0.0.1');
    const tls = await ProtectedDatabase.start(`${h.folder}/tls`, true, options);
    try {
      tls.run(
        "CREATE DATABASE quay; CREATE TABLE quay.crate (id INT PRIMARY KEY); INSERT INTO quay.crate VALUES (7); ALTER USER 'keeper'@'127.0.0.1' REQUIRE SSL;",
      );
      const body = tls.body('Encrypted');
      const told = (ca: string) => ({ ...body, address: { ...body.address, encrypted: true, authority: ca } });
      await expect(admin.call('addSystem', { body })).rejects.toMatchObject({ message: expect.stringContaining('refused the sign-in') });
      await expect(admin.call('addSystem', { body: told(other.authority) })).rejects.toMatchObject({ code: 'MOVER_FAILED' });
      const { id, workloads } = await admin.call('addSystem', { body: told(authority) });
      const { runId } = await admin.call('protectOnce', { id: workloads[0]!, body: { targetId, kind: 'full' } });
      expect(await taskOf(runId)).toMatchObject({ cause: null });
      const point = (await admin.call('workload', { id: workloads[0]! })).pointList[0]!;
      const restore = {
        picks: [{ pointId: point.id, path: 'quay' }],
        destination: { to: 'server' as const, systemId: id, databases: [{ from: 'quay', to: 'then' }] },
        reason,
      };
      expect(await taskOf((await admin.call('startRestore', { body: restore })).runId)).toMatchObject({ cause: null });
      expect(tls.run('SELECT id FROM `then`.crate').trim()).toBe('7');
    } finally {
      await tls.stop();
    }
  });
});

describe('who may do what with a database server', () => {
  it('keeps a clerk to what is in the remit, and to the place it came from', async () => {
    const clerk = await h.as('clerk');
    await expect(clerk.call('databaseBand', { id: workloadId })).rejects.toBeInstanceOf(Refused);
    await expect(clerk.call('databaseCommits', { id: workloadId, query: { at: Date.now() } })).rejects.toBeInstanceOf(Refused);
    await h.server.deps
      .db('person')
      .where({ name: 'clerk' })
      .update({ remit: JSON.stringify([workloadId]) });
    const { fulls } = await clerk.call('databaseBand', { id: workloadId });
    const elsewhere = {
      picks: [{ pointId: fulls[0]!.pointId, path: 'quay' }],
      destination: { to: 'server' as const, systemId, databases: [] },
      reason,
    };
    await expect(clerk.call('startRestore', { body: elsewhere })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
    expect((await clerk.fetch('listSystems')).status).toBe(403);
    for (const name of ['addSystem', 'testSystem'] as const) expect((await clerk.fetch(name, { body: {} })).status).toBe(403);
  });

  it('shows the password to nobody: not in answers, the trail, logs, or the list of processes', async () => {
    const trail = JSON.stringify(await admin.call('audit', { query: { limit: 200 } }));
    const runs = JSON.stringify(await admin.call('listRuns', { query: {} }));
    const systems = JSON.stringify(await admin.call('listSystems'));
    const tasks = JSON.stringify(await h.server.deps.db('task').select('work', 'cause'));
    const lines = JSON.stringify(await h.server.deps.db('log_line').select('message'));
    for (const text of [trail, runs, systems, tasks, lines]) expect(text).not.toContain('gulls over the mole');
  });
});
