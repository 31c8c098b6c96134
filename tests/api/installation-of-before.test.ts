import { createHash } from 'node:crypto';
import { execFileSync, spawn, type ChildProcess } from 'node:child_process';
import fs from 'node:fs';
import { Config, openDatabase, runServer, type RunningServer } from '@lithodex/server';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openTestDatabase, type TestDatabase } from '../support/database';
import { Client, passwords } from '../support/harness';
import { describeTree, temporaryFolder } from '../support/nasty-tree';

/** What the maker of the fixture wrote down of it; see `tests/fixtures/make-installation.ts`. */
interface Facts {
  readonly folder: string;
  readonly sessionSecret: string;
  /** The source as it was at each of its points. */
  readonly first: string;
  readonly second: string;
  readonly points: readonly string[];
  readonly workloadId: number;
  readonly targetId: string;
  readonly machine: number;
  /** Sum of the disk of the machine, SHA-256. */
  readonly disk: string;
}

const folder = temporaryFolder('before');
let facts: Facts;
let database: TestDatabase;
let server: RunningServer;
let mover: ChildProcess;
let admin: Client;

beforeAll(async () => {
  fs.chmodSync(folder, 0o755);
  execFileSync('tar', ['-xJf', 'tests/fixtures/installation-of-before.tar.xz', '-C', folder]);
  facts = JSON.parse(fs.readFileSync(`${folder}/facts.json`, 'utf8')) as Facts;
  database = await openTestDatabase(folder);
  const { settings } = database;
  const args = ['--no-defaults', '-h127.0.0.1', `-P${settings.port}`, `-u${settings.user}`, `-p${settings.password}`, settings.name];
  execFileSync('mariadb', args, { input: fs.readFileSync(`${folder}/database.sql`) });
  const { sessionSecret } = facts;
  const config = Config.parse({
    port: 0,
    sessionSecret,
    webDir: folder,
    database: settings,
    targetCare: false,
    schedulerMs: 0,
    logLevel: 'silent',
  });
  // the installation has moved to another folder
  const db = openDatabase(config.database);
  await db('target').update({ folder: `${folder}/store` });
  await db('source')
    .where({ kind: 'files' })
    .update({ folder: Buffer.from(`${folder}/quay-1`) });
  await db.destroy();
  server = await runServer(config);
  const base = `http://127.0.0.1:${server.port}`;
  const own = [
    '--server',
    base,
    '--token-file',
    `${folder}/mover-token`,
    '--keys',
    `${folder}/keys`,
    '--name',
    'mover-1',
    '--log-level',
    'silent',
  ];
  mover = spawn(process.execPath, ['dist/node/mover.js', ...own], { stdio: ['ignore', 'inherit', 'inherit'] });
  admin = new Client(() => base);
  await admin.signIn('administrator', passwords.administrator);
});
afterAll(async () => {
  const gone = new Promise((resume) => mover.once('exit', resume));
  mover.kill('SIGKILL');
  await gone;
  await server.close();
  await database.stop();
  fs.rmSync(folder, { recursive: true, force: true });
});

/** A folder without its own line. */
const inside = (text: string) => text.replace(/^\|d\|.*$/m, '');

async function broughtBack(pointId: string, to: string): Promise<string> {
  const { runId } = await admin.call('startRestore', {
    body: { picks: [{ pointId, path: '' }], destination: { to: 'folder', folder: to }, rule: 'leave', trial: false, reason: 'to compare' },
  });
  expect((await admin.ended(runId)).tasks[0]).toMatchObject({ cause: null, counts: { failed: 0 } });
  return inside(describeTree(to));
}

describe('an installation of before', () => {
  it('has its points, policies and settings, and says of itself what it said', async () => {
    const { pointList, policies } = await admin.call('workload', { id: facts.workloadId });
    expect(pointList.map((p) => p.id)).toEqual(facts.points);
    expect(policies.map((p) => p.name)).toEqual(['Quays, nightly']);
    const machine = await admin.call('workload', { id: facts.machine });
    expect(machine).toMatchObject({ kind: 'machine', name: 'gate-01' });
    expect(machine.pointList[0]!.machine).toMatchObject({ level: 'application' });
    expect(await admin.call('checkAudit')).toMatchObject({ intact: true });
  });

  it('gives back every point as it was', async () => {
    const [first, second] = facts.points as [string, string];
    expect(await broughtBack(first, `${folder}/first`)).toBe(inside(facts.first));
    expect(await broughtBack(second, `${folder}/second`)).toBe(inside(facts.second));
    const { pointList } = await admin.call('workload', { id: facts.machine });
    const { runId } = await admin.call('startRestore', {
      body: {
        name: 'gate',
        picks: [{ pointId: pointList[0]!.id, path: 'disks/system.raw' }],
        destination: { to: 'download', format: 'file' },
        reason: 'to compare',
      },
    });
    const disk = Buffer.from(await (await admin.fetch('download', { id: runId })).arrayBuffer());
    expect(createHash('sha256').update(disk).digest('hex')).toBe(facts.disk);
  });

  it('finds names in its catalog, and goes on with its series: what is stored is not stored again', async () => {
    expect((await admin.call('search', { query: { q: 'plan' } })).rows.map((r) => r.path)).toContain('berths/plan.txt');
    fs.renameSync(`${folder}/second`, `${folder}/quay-1`);
    const { id } = (await admin.call('listPolicies')).rows[0]!;
    const run = await admin.ended((await admin.call('runPolicy', { id, body: {} })).runId);
    expect(run.tasks[0]).toMatchObject({ cause: null, state: 'done' });
    const { pointList } = await admin.call('workload', { id: facts.workloadId });
    expect(pointList).toHaveLength(3);
    expect(pointList[2]).toMatchObject({ kind: 'incremental', fresh: expect.any(Number) });
    expect(pointList[2]!.fresh).toBeLessThan(20_000);
    expect(await broughtBack(pointList[2]!.id, `${folder}/third`)).toBe(inside(describeTree(`${folder}/quay-1`)));
  });
});
