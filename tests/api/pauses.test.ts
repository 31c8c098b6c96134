import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { DiskFolder, Store } from '@lithodex/engine';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';
import { describeTree } from '../support/nasty-tree';
import { readAllPoints } from '../support/store-kit';

const rounds = Math.ceil(Number(process.env['LITHODEX_PAUSES'] ?? 15) / 5);
const leaseMs = 800;
let h: Harness;
let admin: Client;

beforeAll(async () => {
  h = await Harness.start({ leaseMs, movers: 2 });
  admin = await h.withToken('administrator');
});
afterAll(async () => {
  for (const mover of h.movers.values()) mover.kill('SIGCONT');
  await h.stop();
});

const pause = (ms: number) => new Promise((resume) => setTimeout(resume, ms));
const unlessBusy = (e: unknown) => {
  if ((e as { code?: string }).code !== 'NOT_NOW') throw e;
};

it(`loses nothing and makes no point twice when movers sleep for longer than a lease while two back up, prune and verify one target (${rounds} rounds)`, async () => {
  const { source, workloadId, targetId } = await h.connect(admin);
  const other = await h.connect(admin, 'quay-2');
  const policies: number[] = [];
  for (const [name, id] of [
    ['One', workloadId],
    ['Two', other.workloadId],
  ] as const) {
    const body = policyFor([id], targetId, { name, changeLimit: 100, keep: { by: 'points', points: 6 } });
    policies.push((await admin.call('addPolicy', { body })).id);
  }
  const sources = [source, other.source];
  // what both have is stored once, so that each builds on what the other wrote
  const shared = randomBytes(400_000);
  const trees = new Map<string, string>();
  let random = 20261123;
  const next = (n: number) => {
    random = (Math.imul(random, 1664525) + 1013904223) >>> 0;
    // the low bits of such numbers take turns
    return Math.floor((random / 2 ** 32) * n);
  };
  for (let round = 0; round < rounds; round++) {
    for (const folder of sources) {
      fs.writeFileSync(`${folder}/shared`, Buffer.concat([shared, Buffer.from(String(round))]));
      fs.writeFileSync(`${folder}/kept-${next(8)}`, randomBytes(300_000));
      fs.writeFileSync(`${folder}/passing`, randomBytes(700_000));
    }
    const before = sources.map((s) => describeTree(s));
    const runs = await Promise.all(policies.map((id) => admin.call('runPolicy', { id, body: {} })));
    await Promise.all([
      admin.call('pruneTarget', { id: targetId, body: {} }).catch(unlessBusy),
      admin.call('verifyTarget', { id: targetId }).catch(unlessBusy),
    ]);
    for (let naps = 1 + next(2); naps > 0; naps--) {
      await pause(next(250));
      const mover = h.movers.get(`mover-${1 + next(2)}`)!;
      mover.kill('SIGSTOP');
      await pause(leaseMs + next(1200));
      mover.kill('SIGCONT');
    }
    for (const [i, { runId }] of runs.entries()) {
      const run = await admin.ended(runId, 40_000);
      expect(run.state === 'done' || run.cause !== null, `run ${run.id} is ${run.state}`).toBe(true);
      if (run.state === 'done') trees.set(run.tasks[0]!.pointId!, before[i]!);
    }
    await h.idle(admin);
  }
  await admin.ended((await admin.call('pruneTarget', { id: targetId, body: {} })).runId);
  const store = await Store.open(new DiskFolder(`${h.folder}/store`), fs.readFileSync(`${h.folder}/keys/${targetId}.key`));
  const whole = await readAllPoints(store);
  const lists = await Promise.all([workloadId, other.workloadId].map(async (id) => (await admin.call('workload', { id })).pointList));
  for (const list of lists) {
    expect(list.length).toBeGreaterThan(0);
    expect(new Set(list.map((p) => p.runId)).size).toBe(list.length);
    for (const point of list) expect(whole).toContain(point.id);
    for (const point of list.slice(-3)) {
      const folder = `${h.folder}/proof`;
      const body = { picks: [{ pointId: point.id, path: '' }], destination: { to: 'folder' as const, folder }, reason: 'proof' };
      const run = await admin.ended((await admin.call('startRestore', { body })).runId);
      expect([run.state, run.counts.failed]).toEqual(['done', 0]);
      const files = (text: string) => text.split('\n').filter((line) => !line.startsWith('|d|'));
      const expected = trees.get(point.id);
      if (expected) expect(files(describeTree(folder))).toEqual(files(expected));
      fs.rmSync(folder, { recursive: true });
    }
  }
}, 3_600_000);
