import fs from 'node:fs';
import path from 'node:path';
import { setTimeout as pause } from 'node:timers/promises';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { certificates } from '../support/certificates';
import { Harness, policyFor, type Client } from '../support/harness';
import { ProtectedPostgresql } from '../support/protected-postgresql';

/** Tried once more, or more often where a machine is so busy that a mover misses its lease. */
const again: unknown = expect.toSatisfy((attempt: number) => attempt > 1);

let h: Harness;
let admin: Client;
let db: ProtectedPostgresql;
let targetId: string;
let systemId: number;
let workloadId: number;
let policyId: number;
const reason = 'a drill';
const rows = 120_000;

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 1500, schedulerMs: 200 });
  admin = await h.as('administrator');
  ({ targetId } = await h.connect(admin));
  db = await ProtectedPostgresql.start(`${h.folder}/protected`);
  db.run('CREATE DATABASE quay');
  // enough for the middle of something to be met
  sql(`CREATE TABLE crate (id int PRIMARY KEY, note text); CREATE TABLE other (id int PRIMARY KEY); INSERT INTO other VALUES (1);
    INSERT INTO crate SELECT i, i || repeat(md5(i::text), 5) FROM generate_series(1, ${rows}) i; CREATE VIEW low AS SELECT id FROM crate WHERE id < 10;`);
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

const sql = (text: string, database = 'quay') => db.run(text, database).trim();
const start = async (rule: number) => (await admin.call('runPolicy', { id: policyId, body: { rule } })).runId;
const taskOf = async (runId: number) => (await admin.ended(runId)).tasks[0]!;
const fulls = async () =>
  (await admin.call('workload', { id: workloadId })).pointList
    .filter((p) => !p.expired && p.facts?.kind === 'database')
    .sort((a, b) => b.moment - a.moment);
/** Waits until a run does something. */
const underWay = async (runId: number, phase: RegExp) => {
  for (;;) {
    const { tasks, state } = await admin.call('getRun', { id: runId });
    if (phase.test(tasks[0]?.progress?.phase ?? '') || !['waiting', 'running'].includes(state)) return;
    await pause(10);
  }
};
const killMover = async () => {
  const [name, mover] = [...h.movers][0]!;
  mover.kill('SIGKILL');
  await new Promise((resume) => mover.once('exit', resume));
  h.startMover(name);
};
const sums = () =>
  sql('SELECT count(*), sum(id), md5(string_agg(note, NULL ORDER BY id)) FROM crate; SELECT count(*) FROM other; SELECT count(*) FROM low');
const sleeping = "FROM pg_stat_activity WHERE query LIKE '%pg_sleep(60)' AND pid <> pg_backend_pid()";
/** Keeps something from others until what it gives is called. */
const keep = async (statement: string): Promise<() => Promise<void>> => {
  const kept = db.runBeside(`BEGIN; ${statement}; SELECT pg_sleep(60)`, 'quay').catch(() => undefined);
  await expect.poll(() => sql(`SELECT count(*) ${sleeping} AND wait_event = 'PgSleep'`, 'postgres'), { timeout: 20_000 }).toBe('1');
  return async () => {
    sql(`SELECT pg_terminate_backend(pid) ${sleeping}`, 'postgres');
    await kept;
  };
};
/** Waits until somebody waits for what is kept: in the middle of something for certain. */
const isMet = () =>
  expect
    .poll(() => sql("SELECT count(*) > 0 FROM pg_stat_activity WHERE wait_event_type = 'Lock'", 'postgres'), { timeout: 30_000 })
    .toBe('t');
const databases = () => sql("SELECT string_agg(datname, ' ' ORDER BY datname) FROM pg_database WHERE NOT datistemplate", 'postgres');

describe('a server of the other family and what is killed', () => {
  it('is backed up all the same when the mover is killed in the middle, and restored once and whole', async () => {
    const before = sums();
    const free = await keep('LOCK TABLE other');
    const runId = await start(1);
    await isMet();
    await killMover();
    await free();
    expect(await taskOf(runId)).toMatchObject({ cause: null, attempt: again });
    const { id: pointId } = (await fulls())[0]!;
    sql('DELETE FROM crate WHERE id > 100; DELETE FROM other');
    const body = {
      picks: [{ pointId, path: 'quay' }],
      destination: { to: 'original' as const },
      rule: 'replace' as const,
      rescue: false,
      reason,
    };
    const freeName = await keep('ALTER DATABASE quay CONNECTION LIMIT 50');
    const restore = (await admin.call('startRestore', { body })).runId;
    await isMet();
    await killMover();
    expect(sql('SELECT count(*) FROM crate', 'quay')).toBe('100');
    await freeName();
    expect(await taskOf(restore)).toMatchObject({ cause: null, attempt: again, counts: { failed: 0 } });
    expect(sums()).toBe(before);
    expect(databases()).toBe('postgres quay');
  });

  it('gets the rows of a table back once and whole when the mover is killed while others keep the table', async () => {
    const before = sums();
    const { id: pointId } = (await fulls())[0]!;
    sql('DELETE FROM crate WHERE id > 100');
    const free = await keep('LOCK TABLE crate IN SHARE MODE');
    const picks = [{ pointId, path: 'quay/tables/public.crate.sql' }];
    const body = { picks, destination: { to: 'original' as const }, rule: 'replace' as const, rescue: false, reason };
    const { runId } = await admin.call('startRestore', { body });
    await isMet();
    await killMover();
    await free();
    expect(await taskOf(runId)).toMatchObject({ cause: null, attempt: again });
    expect(sums()).toBe(before);
    expect(sql("SELECT count(*) FROM pg_class WHERE relname LIKE 'lithodex%'")).toBe('0');
  });

  it('leaves no point when the server is killed in the middle, says why, and goes on after', async () => {
    const before = (await fulls()).length;
    await keep('LOCK TABLE other');
    const runId = await start(1);
    await isMet();
    db.kill();
    expect(await taskOf(runId)).toMatchObject({ state: 'failed', cause: { code: expect.stringMatching(/^(DATABASE_AWAY|DUMP_FAILED)$/) } });
    expect((await fulls()).length).toBe(before);
    await db.restart();
    expect(await taskOf(await start(1))).toMatchObject({ cause: null });
  });

  it('puts nothing in place when the restore is stopped, and tidies up', async () => {
    const { id: pointId } = (await fulls())[0]!;
    const to = { to: 'server' as const, systemId, databases: [{ from: 'quay', to: 'aside' }] };
    const begun = async (body: object) =>
      (await admin.call('startRestore', { body: { picks: [{ pointId, path: 'quay' }], destination: to, reason, ...body } })).runId;
    // somebody keeps the table: nobody has to wait for that to stop
    const before = sums();
    const free = await keep('LOCK TABLE other IN SHARE MODE');
    const picks = [{ pointId, path: 'quay/tables/public.other.sql' }];
    const runId = await begun({ picks, destination: { to: 'original' }, rule: 'replace', rescue: false });
    await isMet();
    await admin.call('stopRun', { id: runId });
    expect(await taskOf(runId)).toMatchObject({ state: 'stopped' });
    await free();
    expect(sums()).toBe(before);
    const whole = await begun({});
    await underWay(whole, /loading/);
    // it may be through before anybody can stop it
    await admin.call('stopRun', { id: whole }).catch(() => undefined);
    const { state } = await taskOf(whole);
    expect(databases()).toBe(state === 'stopped' ? 'postgres quay' : 'aside postgres quay');
    if (state !== 'stopped') db.run('DROP DATABASE aside');
  });

  it('makes the second again when the scratch server is killed with its mover', async () => {
    expect(await taskOf(await start(2))).toMatchObject({ cause: null });
    sql('INSERT INTO other VALUES (2), (3)');
    await pause(1100);
    expect(await taskOf(await start(2))).toMatchObject({ cause: null });
    const { stretches } = await admin.call('databaseBand', { id: workloadId });
    const picks = [{ pointId: (await fulls())[0]!.id, path: 'quay/tables/public.other.sql' }];
    const body = {
      picks,
      destination: { to: 'original' as const },
      rule: 'replace' as const,
      rescue: false,
      until: { at: stretches.at(-1)!.to },
      reason,
    };
    const free = await keep('LOCK TABLE other IN SHARE MODE');
    const { runId } = await admin.call('startRestore', { body });
    await isMet();
    await killMover();
    await free();
    expect(await taskOf(runId)).toMatchObject({ cause: null, attempt: again });
    expect(sql('SELECT count(*) FROM other')).toBe('3');
    await expect.poll(() => db.orphans(), { timeout: 10_000 }).toEqual([]);
  });

  it('never passes over a log that is damaged or gone on the target', async () => {
    const store = `${h.folder}/store`;
    const files = () =>
      fs
        .readdirSync(store, { recursive: true, encoding: 'utf8' })
        .filter((f) => f.includes('pack') && fs.statSync(path.join(store, f)).isFile());
    const packs = files();
    sql('INSERT INTO other SELECT generate_series(10, 20000); SELECT pg_switch_wal()');
    await pause(1100);
    expect(await taskOf(await start(2))).toMatchObject({ cause: null });
    const fresh = files().filter((f) => !packs.includes(f));
    expect(fresh.length).toBeGreaterThan(0);
    for (const file of fresh) {
      const whole = path.join(store, file);
      fs.chmodSync(whole, 0o600);
      const data = fs.readFileSync(whole);
      for (let at = 0; at < data.length; at += 40) data[at]! ^= 0x55;
      fs.writeFileSync(whole, data);
    }
    const { stretches } = await admin.call('databaseBand', { id: workloadId });
    const to = { to: 'server' as const, systemId, databases: [{ from: 'quay', to: 'never' }] };
    const body = {
      picks: [{ pointId: (await fulls())[0]!.id, path: 'quay' }],
      destination: to,
      until: { at: stretches.at(-1)!.to },
      reason,
    };
    expect(await admin.call('startRestore', { body }).then(({ runId }) => taskOf(runId))).toMatchObject({ state: 'failed' });
    expect(databases()).toBe('postgres quay');
  });
});

describe('an encrypted connection to a server of the other family', () => {
  it('reads and restores where the certificate is that of the server, and goes no further where it is not', async () => {
    const { authority, certificate, key } = certificates(`${h.folder}/certificates`, '127.0.0.1');
    const other = certificates(`${h.folder}/other`, '127.0.0.1');
    const tls = await ProtectedPostgresql.start(`${h.folder}/tls`, ProtectedPostgresql.encrypted(`${h.folder}/tls`, certificate, key));
    try {
      tls.run('CREATE DATABASE quay');
      tls.run('CREATE TABLE crate (id int PRIMARY KEY); INSERT INTO crate VALUES (7)', 'quay');
      const body = tls.body('Encrypted');
      const told = (ca: string) => ({ ...body, address: { ...body.address, encrypted: true, authority: ca } });
      await expect(admin.call('addSystem', { body: told(other.authority) })).rejects.toMatchObject({ code: 'MOVER_FAILED' });
      const { id, workloads } = await admin.call('addSystem', { body: told(authority) });
      const { runId } = await admin.call('protectOnce', { id: workloads[0]!, body: { targetId, kind: 'full' } });
      expect(await taskOf(runId)).toMatchObject({ cause: null });
      const point = (await admin.call('workload', { id: workloads[0]! })).pointList[0]!;
      const to = { to: 'server' as const, systemId: id, databases: [{ from: 'quay', to: 'then' }] };
      const restore = (
        await admin.call('startRestore', { body: { picks: [{ pointId: point.id, path: 'quay' }], destination: to, reason } })
      ).runId;
      expect(await taskOf(restore)).toMatchObject({ cause: null });
      expect(tls.run('SELECT id FROM crate', 'then').trim()).toBe('7');
    } finally {
      await tls.stop();
    }
  });

  it('shows the password to nobody: not in answers, the trail, logs, or the list of processes', async () => {
    const { deps } = h.server;
    const texts = [
      await admin.call('audit', { query: { limit: 200 } }),
      await admin.call('listSystems'),
      await deps.db('task').select('work', 'cause'),
      await deps.db('log_line').select('message'),
    ];
    for (const text of texts) expect(JSON.stringify(text)).not.toContain('gulls');
  });
});
