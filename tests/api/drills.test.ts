import { createHash } from 'node:crypto';
import fs from 'node:fs';
import os from 'node:os';
import type { BodyInput, DrillCheck, DrillRow } from '@lithodex/contract';
import type { ClusterService, PlatformService } from '@lithodex/standins';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
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
});
