import { createHash } from 'node:crypto';
import fs from 'node:fs';
import os from 'node:os';
import type { BodyInput, DrillCheck, DrillRow } from '@lithodex/contract';
import type { ClusterService, PlatformService } from '@lithodex/standins';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { rounds } from '../support/by-command';
import { clusterToken, fillFolder, startCluster, tideBoard } from '../support/clusters';
import { Harness, type Client } from '../support/harness';
import { ObjectStorage, objectSecret } from '../support/object-storage';
import { messageOf, Office } from '../support/office';
import { buildLogger, startPlatform } from '../support/platform';
import { ProtectedDatabase } from '../support/protected-database';

let h: Harness;
let admin: Client;
let platform: PlatformService;
let cluster: ClusterService;
let database: ProtectedDatabase;
let storage: ObjectStorage;
let office: Office;
let targetId: string;
let targetFolder: string;
const clock = { ahead: 0 };
const dayMs = 86_400_000;
const logText = 'gate-01 opened\n'.repeat(2000);
const sumOf = (text: string) => createHash('sha256').update(text).digest('hex');

const rows = async () => (await admin.call('listDrills')).rows;
const idOf = async (name: string) => (await admin.call('estate', { query: {} })).workloads.find((w) => w.name === name)!.id;
const protect = async (name: string) => {
  const run = await admin.ended((await admin.call('protectOnce', { id: await idOf(name), body: { targetId } })).runId);
  expect(run.state, `${name}: ${run.cause?.message}`).toMatch(/done|remarks/);
};
const plan = async (name: string, checks: readonly DrillCheck[], more: Partial<BodyInput<'changeDrillPlan'>> = {}) => {
  const body = { checks: [...checks], objective: null, weight: 1, ...more };
  await admin.call('changeDrillPlan', { id: await idOf(name), body });
};
const drill = async (...names: string[]) => {
  const workloads = await Promise.all(names.map(idOf));
  return admin.ended((await admin.call('startDrill', { body: { workloads } })).runId);
};
const evidence = async (name: string): Promise<DrillRow> =>
  (await admin.call('listDrilled', { query: { workload: await idOf(name) } })).rows[0]!;
const failedOf = ({ results }: DrillRow) => results.filter((r) => !r.passed);

const rooms = () => (fs.existsSync(`${h.folder}/overlays/rooms`) ? fs.readdirSync(`${h.folder}/overlays/rooms`) : []);
const scratches = () =>
  [...h.movers.values()].flatMap(({ pid }) => fs.readdirSync(os.tmpdir()).filter((name) => name.startsWith(`lithodex-scratch-${pid}-`)));
const script = (name: string, body: string) => {
  fs.writeFileSync(`${h.folder}/scripts/${name}`, `#!/bin/sh\n${body}\n`, { mode: 0o755 });
};
const packs = () =>
  fs
    .readdirSync(targetFolder, { recursive: true, encoding: 'utf8' })
    .map((name) => `${targetFolder}/${name}`)
    .filter((file) => file.includes('/packs/') && fs.statSync(file).isFile());
const damage = (file: string) => {
  const fd = fs.openSync(file, 'r+');
  const { size } = fs.fstatSync(fd);
  for (let at = 64; at < size; at += 512) fs.writeSync(fd, Buffer.from([at & 0xff, 0x5a, 0xa5]), 0, 3, at);
  fs.closeSync(fd);
};
/** What drills made and did not remove. */
const left = () => [
  ...rooms(),
  ...scratches(),
  ...platform.platform
    .inventory()
    .machines.filter((m) => m.name.startsWith('drill-'))
    .map((m) => m.name),
  ...cluster.objects
    .everything()
    .filter(({ object }) => object.kind === 'Namespace' && object.metadata.name.startsWith('drill-'))
    .map(({ object }) => object.metadata.name),
];

beforeAll(async () => {
  h = await Harness.start({ schedulerMs: 0, leaseMs: 3000, scripts: true, clock: { now: () => Date.now() + clock.ahead } });
  admin = await h.withToken('administrator');
  const connected = await h.connect(admin, 'plans');
  ({ targetId } = connected);
  const { place } = (await admin.call('listTargets', { query: {} })).rows[0]!;
  targetFolder = place.kind === 'folder' ? place.folder : '';
  fs.mkdirSync(`${connected.source}/berths`);
  for (let i = 0; i < 60; i++) fs.writeFileSync(`${connected.source}/berths/p${i}.txt`, `berth ${i} is free\n`.repeat(40));

  const started = await startPlatform(`${h.folder}/platform`);
  platform = started.service;
  await buildLogger(platform, 'gate-01', { services: ['gate-log'] });
  await admin.call('addPlatform', { body: started.body });

  database = await ProtectedDatabase.start(`${h.folder}/berths-db`);
  database.run(`CREATE DATABASE berth_bookings; USE berth_bookings;
    CREATE TABLE bookings (id INT PRIMARY KEY, vessel VARCHAR(40)); INSERT INTO bookings VALUES (1, 'Tern'), (2, 'Petrel'), (3, 'Gannet')`);
  await admin.call('addSystem', { body: database.body('berths-a') });

  storage = await ObjectStorage.start(`${h.folder}/objects`, ['sonar-surveys']);
  for (let i = 0; i < 20; i++) await storage.put('sonar-surveys', `berth-14/${i}.xyz`, `depth ${i}`);
  const address = { kind: 'bucket' as const, endpoint: storage.endpoint, accessKey: 'keeper' };
  await admin.call('addSystem', { body: { name: 'surveys', address, secret: objectSecret } });

  cluster = await startCluster(`${h.folder}/jetty`, 'jetty-1', ['basin-fast']);
  cluster.put(...tideBoard('basin-fast', 'tides.jetty.example'));
  fillFolder(cluster.placeOfClaim('tide-board', 'tide-data'));
  const jetty = { kind: 'application' as const, endpoint: cluster.url, domains: ['jetty.example'] };
  await admin.call('addSystem', { body: { name: 'jetty', address: jetty, secret: clusterToken } });

  office = await Office.start(`${h.folder}/office`, {
    people: [{ login: 'ragna.holt', name: 'Ragna Holt', mail: 'ragna.holt@kelmar-harbour.example' }],
    groups: [],
  });
  await office.as('ragna.holt', async (client) => {
    for (let n = 1; n <= 5; n++) await client.append('INBOX', messageOf(n), [], new Date(1_795_000_000_000 + n * 60_000));
  });
  await admin.call('addSystem', { body: office.body() });
  for (const name of ['plans', 'gate-01', 'berths-a', 'sonar-surveys', 'tide-board', 'Ragna Holt']) await protect(name);
}, 120_000);
afterAll(async () => {
  await Promise.all([office.stop(), storage.stop(), platform.stop(), cluster.stop(), database.stop()]);
  await h.stop();
});

describe('drills', () => {
  it('bring every kind back to a place of its own, look at it and remove it', async () => {
    await plan('plans', [
      { check: 'file', path: 'berths/p7.txt', sum: sumOf('berth 7 is free\n'.repeat(40)), holds: 'berth 7' },
      { check: 'count', path: 'berths', least: 60 },
    ]);
    await plan('gate-01', [
      { check: 'service', name: 'gate-log' },
      { check: 'file', path: '/var/log/gate.log', sum: sumOf(logText), holds: '' },
    ]);
    await plan('berths-a', [
      { check: 'query', database: 'berth_bookings', sql: 'SELECT COUNT(*) FROM bookings;', is: 'least', value: '3' },
      { check: 'query', database: 'berth_bookings', sql: 'SELECT vessel FROM bookings WHERE id = 2', is: 'equal', value: 'Petrel' },
    ]);
    await plan('sonar-surveys', [{ check: 'count', path: '', least: 20 }]);
    await plan('Ragna Holt', [{ check: 'count', path: 'Mail/INBOX', least: 5 }], { objective: 600 });
    const names = ['plans', 'gate-01', 'berths-a', 'sonar-surveys', 'tide-board', 'Ragna Holt'];
    const run = await drill(...names);
    for (const name of names) expect(failedOf(await evidence(name)), name).toEqual([]);
    expect(run).toMatchObject({ kind: 'drill', state: 'done' });
    expect(left()).toEqual([]);
    const mail = await evidence('Ragna Holt');
    expect(mail).toMatchObject({ passed: true, sealed: true, objective: 600, left: '' });
    expect(mail.steps.map((s) => s.name)).toEqual(['opening', 'clearing', 'restoring', 'looking', 'checking', 'removing']);
    expect(mail.usableMs).toBeGreaterThan(0);
    expect(await admin.call('drillEvidence', { id: mail.id })).toEqual(mail);
    // the machine that was taken is still the only one of its kind
    expect(platform.platform.inventory().machines.map((m) => m.name)).toEqual(['gate-01']);
    const { coverage } = await admin.call('listDrills');
    expect(coverage).toEqual({ of: 6, proven: 6, failed: 0 });
  });

  it('fail with the cause: what is looked at is not so, too slow, or the backup is broken', async () => {
    await plan('Ragna Holt', [{ check: 'file', path: 'a'.repeat(5000), sum: '', holds: '' }]);
    await drill('Ragna Holt');
    expect(failedOf(await evidence('Ragna Holt'))).toMatchObject([{ found: 'it is not there' }]);
    await plan('Ragna Holt', []);
    await plan('berths-a', [
      { check: 'query', database: 'berth_bookings', sql: 'SELECT COUNT(*) FROM bookings', is: 'equal', value: '4' },
      { check: 'query', database: 'berth_bookings', sql: 'DROP TABLE bookings', is: 'equal', value: '1' },
      { check: 'query', database: 'mysql', sql: 'SELECT COUNT(*) FROM global_priv', is: 'least', value: '0' },
    ]);
    await plan('gate-01', [{ check: 'file', path: '/etc/hostname', sum: sumOf('gate-02\n'), holds: '' }]);
    script('slow.sh', 'sleep 1.2');
    await plan('sonar-surveys', [{ check: 'script', name: 'slow.sh', minutes: 1 }], { objective: 1 });
    script('portal.sh', 'echo "the portal has no database" >&2; exit 3');
    await plan('tide-board', [{ check: 'script', name: 'portal.sh', minutes: 1 }]);
    const run = await drill('berths-a', 'gate-01', 'sonar-surveys', 'tide-board');
    expect(run.state).toBe('failed');
    expect(run.tasks.every((t) => t.cause?.code === 'DRILL_FAILED')).toBe(true);
    const asked = await evidence('berths-a');
    expect(failedOf(asked).map((r) => r.found)).toEqual(['3', expect.stringContaining('DROP'), 'there is no such database in it']);
    expect(failedOf(await evidence('gate-01'))).toMatchObject([{ found: `its sum is ${sumOf('gate-01\n')}` }]);
    expect(failedOf(await evidence('sonar-surveys'))).toMatchObject([{ what: expect.stringMatching(/^Usable within 1/) as string }]);
    expect(failedOf(await evidence('tide-board'))).toMatchObject([{ found: 'The script portal.sh failed: it ended with 3.' }]);
    const titles = (await admin.call('watch', { query: {} })).matters.map((m) => m.title);
    expect(titles).toContain('The drill of berths-a did not pass');
    expect(left()).toEqual([]);

    fs.cpSync(targetFolder, `${h.folder}/whole`, { recursive: true });
    for (const file of packs()) damage(file);
    await plan('plans', []);
    const broken = await drill('plans');
    expect(broken).toMatchObject({
      state: 'failed',
      tasks: [{ cause: { code: expect.stringMatching(/DAMAGED|DRILL_FAILED/) as string } }],
    });
    expect(
      failedOf(await evidence('plans'))
        .map((r) => r.found)
        .join(),
    ).toMatch(/damaged|sum/);
    fs.cpSync(`${h.folder}/whole`, targetFolder, { recursive: true });
    await drill('plans');
    expect((await evidence('plans')).passed).toBe(true);
    expect(left()).toEqual([]);
  });

  it('leave nothing behind, also when the mover is killed in the middle or a person stops them', async () => {
    script('wait.sh', `touch ${h.folder}/here-$LITHODEX_TASK; while [ ! -e ${h.folder}/go ]; do sleep 0.1; done`);
    const checks = [{ check: 'script' as const, name: 'wait.sh', minutes: 2 }];
    const here = () => fs.readdirSync(h.folder).filter((name) => name.startsWith('here-')).length;
    const pairs = [
      ['gate-01', 'tide-board'],
      ['berths-a', 'plans'],
    ];
    for (const names of pairs.slice(0, rounds(1, 2))) {
      for (const name of names) await plan(name, checks);
      const begin = async () => {
        for (const name of fs.readdirSync(h.folder).filter((n) => n.startsWith('here-'))) fs.rmSync(`${h.folder}/${name}`);
        const { runId } = await admin.call('startDrill', { body: { workloads: await Promise.all(names.map(idOf)) } });
        await vi.waitFor(() => expect(here()).toBe(names.length), { timeout: 60_000, interval: 100 });
        expect(left()).toHaveLength(names.length === 2 && names[0] === 'gate-01' ? 3 : 2);
        return runId;
      };
      const stopped = await begin();
      await admin.call('stopRun', { id: stopped });
      expect((await admin.ended(stopped)).state).toBe('stopped');
      expect(left()).toEqual([]);
      const killed = await begin();
      await h.killMover('mover-1');
      fs.writeFileSync(`${h.folder}/go`, '');
      h.startMover('mover-1');
      // its lease has to run out first
      const given = setInterval(() => void h.tick(), 1000);
      expect((await admin.ended(killed)).state).toBe('done');
      clearInterval(given);
      for (const name of names) expect((await evidence(name)).passed).toBe(true);
      expect(left()).toEqual([]);
      fs.rmSync(`${h.folder}/go`);
    }
  });

  it('come by themselves, what was never drilled first, and are refused where they can not be', async () => {
    for (const name of ['plans', 'gate-01', 'berths-a', 'tide-board', 'Ragna Holt']) await plan(name, []);
    await plan('sonar-surveys', [], { weight: 0 });
    fs.mkdirSync(`${h.folder}/logs`);
    fs.writeFileSync(`${h.folder}/logs/a.log`, 'fog');
    await h.connect(admin, 'logs');
    await protect('logs');
    expect((await rows()).find((r) => r.name === 'logs')).toMatchObject({ turn: 1, last: null, proven: null });
    expect((await rows()).find((r) => r.name === 'sonar-surveys')).toMatchObject({ turn: null });
    await admin.call('changeDrillSettings', { body: { on: true, at: '03:30', nightly: 2, within: 90 } });
    await h.tick();
    const nights = async () =>
      (await admin.call('listRuns', { query: { limit: 20 } })).rows.filter((r) => r.name === 'Drills of the night');
    expect(await nights()).toEqual([]);
    clock.ahead += dayMs;
    await h.tick();
    const [night] = await nights();
    await admin.ended(night!.id);
    await h.tick();
    expect(await nights()).toHaveLength(1);
    expect((await evidence('logs')).passed).toBe(true);
    expect((await rows()).find((r) => r.name === 'logs')?.turn).toBeGreaterThan(1);
    await expect(drill('mole')).rejects.toThrow();
    await expect(admin.call('startDrill', { body: { workloads: [999_999] } })).rejects.toMatchObject({ code: 'NOT_NOW' });
    for (const role of ['operator', 'auditor', 'clerk'] as const)
      await expect(
        (await h.as(role)).call('changeDrillSettings', { body: { on: false, at: '03:30', nightly: 2, within: 90 } }),
      ).rejects.toMatchObject({
        code: 'NOT_ALLOWED',
      });
  });

  it('say when their evidence was changed since', async () => {
    const { id } = await evidence('logs');
    await h.server.deps
      .db('drill')
      .where({ id })
      .update({ evidence: h.server.deps.db.raw("JSON_SET(evidence, '$.usableMs', 1)") });
    expect(await admin.call('drillEvidence', { id })).toMatchObject({ sealed: false });
  });
});
