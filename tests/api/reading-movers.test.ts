import fs from 'node:fs';
import net from 'node:net';
import tls from 'node:tls';
import { randomBytes } from 'node:crypto';
import { once } from 'node:events';
import { moverLanguage, routes, type RouteName } from '@lithodex/contract';
import { DiskFolder, Store } from '@lithodex/engine';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { itLong } from '../support/by-command';
import { Client, Harness, Refused } from '../support/harness';
import { describeTree, makeNastyTree } from '../support/nasty-tree';
import { foundInFiles, foundInMemory } from '../support/process-memory';
import { ProtectedDatabase } from '../support/protected-database';

let h: Harness;
let admin: Client;
let own: string;
let port: number;
let targetId: string;
let db: ProtectedDatabase;
let dbToo: { id: number; workloadId: number };

/** A port that nobody listens at. */
async function freePort(): Promise<number> {
  const server = net.createServer().listen(0, '127.0.0.1');
  await once(server, 'listening');
  const found = (server.address() as net.AddressInfo).port;
  server.close();
  return found;
}

const source = () => `${h.folder}/gauge-data`;
const code = (error: unknown) => (error as Refused).code;

beforeAll(async () => {
  h = await Harness.start({ claimWaitMs: 300, movers: 0 });
  admin = await h.withToken('administrator');
  port = await freePort();
  // what is to be read is out of bounds for the mover that keeps
  fs.writeFileSync(`${h.folder}/mover.json`, JSON.stringify({ never: [source()] }));
  h.startMover('keeper', { receive: port });
  own = await h.joinReader(admin, 'gauge');
  await h.moverReady();
  targetId = (await admin.call('addTarget', { body: { name: 'quay-disk', place: { kind: 'folder', folder: `${h.folder}/store` } } })).id;
  db = await ProtectedDatabase.start(`${h.folder}/mariadb`);
  db.run(`CREATE DATABASE tide; CREATE TABLE tide.level (id INT PRIMARY KEY, at DATETIME, cm INT);
    USE tide; INSERT INTO level SELECT seq, NOW(), seq % 400 FROM seq_1_to_5000;`);
}, 120_000);
afterAll(async () => {
  await db.stop();
  await h.stop();
});

async function kept(workloadId: number) {
  const { runId } = await admin.call('protectOnce', { id: workloadId, body: { targetId, keep: { by: 'days', days: 9 } } });
  return admin.ended(runId);
}

/** Brings the newest point back to a folder, and describes what came. */
async function broughtBack(workloadId: number, to: string): Promise<string> {
  const { pointList } = await admin.call('workload', { id: workloadId });
  const { runId } = await admin.call('startRestore', {
    body: {
      picks: [{ pointId: pointList.at(-1)!.id, path: '' }],
      destination: { to: 'folder', folder: to },
      rule: 'leave',
      trial: false,
      reason: 'to compare',
    },
  });
  const run = await admin.ended(runId);
  expect(run.state, JSON.stringify(run.tasks.map((t) => t.cause))).toBe('done');
  return inside(to);
}

/** Everything in a folder; its own time is that of the restore. */
const inside = (folder: string) => describeTree(folder).replace(/^\|d\|.*$/m, '');

describe('a mover that only reads', () => {
  let workloadId: number;

  it('is asked what is at the source, and another one is not', async () => {
    makeNastyTree(source());
    const body = { name: 'gauge', folder: source() };
    expect((await admin.call('testSource', { body })).ok).toBe(false);
    expect((await admin.call('testSource', { body: { ...body, readBy: 'gauge' } })).ok).toBe(true);
    ({ workloadId } = await admin.call('addSource', { body: { ...body, readBy: 'gauge' } }));
    const { source: found, readBy } = await admin.call('workload', { id: workloadId });
    expect(readBy).toBe('gauge');
    expect((await admin.call('discover', { id: found.id, query: {} })).rows.length).toBeGreaterThan(3);
    expect(await admin.call('forgetMover', { id: 'gauge' }).catch(code)).toBe('NOT_NOW');
  });

  it('gives what it reads to one that keeps, and it comes back identical', async () => {
    const run = await kept(workloadId);
    expect([run.state, run.tasks[0]!.mover], JSON.stringify(run.tasks)).toEqual(['done', 'keeper']);
    const { rows } = await admin.call('runLog', { id: run.id, query: {} });
    expect(rows.map((line) => line.message)).toContain('the source is read by the mover gauge');
    expect(await broughtBack(workloadId, `${h.folder}/back`)).toBe(inside(source()));
    const again = await kept(workloadId);
    expect(again.tasks[0]!.counts).toMatchObject({ read: 0 });
    const { runId } = await admin.call('protectOnce', { id: workloadId, body: { targetId, kind: 'full', keep: { by: 'days', days: 9 } } });
    expect((await admin.ended(runId)).tasks[0]!.counts.read).toBeGreaterThan(1_000_000);
  });

  it('reads a database server with what opens it, which the one that keeps never gets', async () => {
    const added = await admin.call('addSystem', { body: { ...db.body('tide-db'), readBy: 'gauge' } });
    dbToo = { id: added.id, workloadId: added.workloads[0]! };
    const run = await kept(dbToo.workloadId);
    expect([run.state, run.tasks[0]!.mover], JSON.stringify(run.tasks)).toEqual(['done', 'keeper']);
    const { pointList } = await admin.call('workload', { id: dbToo.workloadId });
    expect(pointList[0]!.facts).toMatchObject({ kind: 'database', family: 'mariadb' });
    expect(pointList[0]!.items).toBeGreaterThan(3);
    const password = { password: Buffer.from(db.body('x').secret!) };
    expect(foundInMemory(h.movers.get('keeper')!.pid!, password)).toEqual([]);
  });

  it('has no key of a target: not in its token, its folder or its memory, after all it read', async () => {
    const key = fs.readFileSync(`${h.folder}/keys/${targetId}.key`);
    const { keys } = await Store.open(new DiskFolder(`${h.folder}/store`), key);
    const secrets = { key, nameKey: Buffer.from(keys.nameKey), dataKey: Buffer.from(keys.dataKey) };
    expect(fs.readdirSync(own)).toEqual(['token']);
    expect(foundInFiles(own, secrets)).toEqual([]);
    expect(foundInMemory(h.movers.get('gauge')!.pid!, secrets)).toEqual([]);
    // the same search finds them where they are
    expect(foundInMemory(h.movers.get('keeper')!.pid!, secrets)).toEqual(['dataKey', 'key', 'nameKey']);
  });

  it('can not list, read or remove points with its token, nor take work of those that keep', async () => {
    const mover = new Client(() => h.base, fs.readFileSync(`${own}/token`, 'utf8'));
    const ofMovers = new Set<RouteName>(
      (Object.keys(routes) as RouteName[]).filter((name) => ['mover', 'anyone'].includes(String(routes[name].access))),
    );
    for (const name of Object.keys(routes) as RouteName[]) {
      if (ofMovers.has(name)) continue;
      const response = await mover.fetch(name, {
        id: name.includes('Target') ? targetId : 1,
        ...(routes[name].method !== 'get' && { body: {} }),
      });
      expect([name, response.status]).toEqual([name, 403]);
    }
    const { runId } = await admin.call('verifyTarget', { id: targetId });
    await admin.ended(runId);
    const { pointList } = await admin.call('workload', { id: workloadId });
    const task = pointList[0]!.id;
    const { deps } = h.server;
    await h.killMover('keeper');
    const waiting = await admin.call('protectOnce', { id: workloadId, body: { targetId } });
    expect((await mover.call('claim', { body: { mover: 'gauge', speaks: moverLanguage, receives: true } })).task).toBeNull();
    expect(await mover.call('claim', { body: { mover: 'keeper', speaks: moverLanguage } }).catch(code)).toBe('NOT_ALLOWED');
    const ticket = { id: task, key: 'a'.repeat(64) };
    expect(await mover.call('callReader', { id: task, body: { attempt: 1, address: '127.0.0.1:1', ticket } }).catch(code)).toBe(
      'LEASE_LOST',
    );
    expect(await mover.call('aliveTasks', { id: task, body: { attempt: 1, tasks: [] } }).catch(code)).toBe('LEASE_LOST');
    expect((await deps.db('task').where({ run_id: waiting.runId }).first<{ state: string }>('state')).state).toBe('waiting');
    h.startMover('keeper', { receive: port });
    expect((await admin.ended(waiting.runId)).state).toBe('done');
  });

  it('comes to the one that keeps by a ticket only: nobody else gets past the first message', async () => {
    const refused = (key: Buffer, identity: string) =>
      new Promise<string>((resolve) => {
        const options = { host: '127.0.0.1', port, minVersion: 'TLSv1.3' as const, ciphers: 'TLS_AES_128_GCM_SHA256' };
        const stream = tls.connect({ ...options, pskCallback: () => ({ psk: key, identity }), checkServerIdentity: () => undefined });
        stream.once('secureConnect', () => {
          resolve('let in');
        });
        stream.once('error', () => {
          resolve('refused');
        });
      });
    expect(await refused(randomBytes(32), 'a7c1d7b2-0000-4000-8000-000000000000')).toBe('refused');
    const plain = net.connect(port, '127.0.0.1').on('error', () => undefined);
    plain.write('GET / HTTP/1.1\r\n\r\n');
    await once(plain, 'close');
  });

  itLong('is killed in the middle, comes again, and everything is there', async () => {
    fs.writeFileSync(`${source()}/large`, randomBytes(96 << 20));
    const { runId } = await admin.call('protectOnce', { id: workloadId, body: { targetId, kind: 'full', keep: { by: 'days', days: 9 } } });
    await reading(runId);
    await h.killMover('gauge');
    h.startMover('gauge', { own });
    const run = await admin.ended(runId);
    expect(run.tasks[0]!.cause).toBeNull();
    expect(await broughtBack(workloadId, `${h.folder}/back-2`)).toBe(inside(source()));
  });

  itLong('goes on when the one that keeps is killed in the middle', async () => {
    fs.writeFileSync(`${source()}/large`, randomBytes(96 << 20));
    const { runId } = await admin.call('protectOnce', { id: workloadId, body: { targetId, kind: 'full', keep: { by: 'days', days: 9 } } });
    await reading(runId);
    await h.killMover('keeper');
    h.startMover('keeper', { receive: port });
    const run = await admin.ended(runId);
    expect(run.state).toBe('done');
    // a host with much else to do may take more than one
    expect(run.tasks[0]!.attempt).toBeGreaterThan(1);
    expect(await broughtBack(workloadId, `${h.folder}/back-3`)).toBe(inside(source()));
  });

  it('gives nothing more from the moment on at which its token is withdrawn', async () => {
    fs.writeFileSync(`${source()}/large`, randomBytes(256 << 20));
    const points = (await admin.call('workload', { id: workloadId })).pointList.length;
    const { runId } = await admin.call('protectOnce', { id: workloadId, body: { targetId, kind: 'full', keep: { by: 'days', days: 9 } } });
    await reading(runId);
    const token = (await admin.call('listMoverTokens')).rows.find((t) => t.mover === 'gauge')!;
    await admin.call('removeMoverToken', { id: token.id });
    expect((await admin.ended(runId)).state).toBe('stopped');
    expect((await admin.call('workload', { id: workloadId })).pointList).toHaveLength(points);
    expect(await admin.call('discover', { id: 1, query: {} }).catch(code)).toBe('MOVER_ABSENT');
  });

  /** Waits until a run has read some of the large file. */
  async function reading(runId: number): Promise<void> {
    const begun = fs.readdirSync(`${h.folder}/store`, { recursive: true }).length;
    for (const until = Date.now() + 60_000; fs.readdirSync(`${h.folder}/store`, { recursive: true }).length < begun + 3;) {
      const { state } = await admin.call('getRun', { id: runId });
      if (Date.now() > until || state === 'done') throw new Error(`nothing was read, the run is ${state}`);
      await new Promise((resume) => setTimeout(resume, 5));
    }
  }
});
