import { createHash, randomBytes, randomInt } from 'node:crypto';
import fs from 'node:fs';
import path from 'node:path';
import { setTimeout as pause } from 'node:timers/promises';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, policyFor, Refused, type Client } from '../support/harness';

const passphrase = 'a lantern at the end of the quay';
/** Minutes for which both sites work, and are killed. */
const minutes = Number(process.env['LITHODEX_FOLLOW'] ?? 2);
const leaseMs = 6000;

let first: Harness;
let second: Harness;
let admin: Client;
let lighthouse: Client;
let source: string;
let workloadId: number;
let targetId: string;
let policyId: number;
let followedId: string;
/** What each point holds, as one sum. */
const ledger = new Map<string, string>();

/** One sum of all files below a folder, by their names. */
function sumOf(folder: string): string {
  const sum = createHash('sha256');
  for (const name of fs.readdirSync(folder, { recursive: true, encoding: 'utf8' }).sort())
    if (fs.statSync(path.join(folder, name)).isFile()) sum.update(`${name}\0`).update(fs.readFileSync(path.join(folder, name)));
  return sum.digest('hex');
}

function change(): void {
  for (let i = 0; i < 8; i++) {
    const file = `${source}/${randomInt(6)}/plan-${randomInt(40)}`;
    fs.mkdirSync(path.dirname(file), { recursive: true });
    if (randomInt(5) === 0) fs.rmSync(file, { force: true });
    else fs.writeFileSync(file, randomBytes(randomInt(1, 200_000)));
  }
}

beforeAll(async () => {
  first = await Harness.start({ leaseMs, schedulerMs: 500 });
  second = await Harness.start({ leaseMs, schedulerMs: 500 });
  admin = await first.as('administrator');
  lighthouse = await second.as('administrator');
  ({ source, workloadId, targetId } = await first.connect(admin));
  policyId = (await admin.call('addPolicy', { body: policyFor([workloadId], targetId, { keep: { by: 'points', points: 5 } }) })).id;
  await second.moverReady();
});
afterAll(async () => {
  await first.stop();
  await second.stop();
});

const living = async () => (await admin.call('workload', { id: workloadId })).pointList.map((p) => p.id);
const listed = async () => {
  const [workload] = (await lighthouse.call('estate', { query: { show: 'points' } })).workloads;
  return workload ? (await lighthouse.call('workload', { id: workload.id })).pointList.map((p) => p.id) : [];
};

describe('a second site that follows while the first works, both under kills', () => {
  const till = Date.now() + minutes * 60_000;
  const counts = { taken: 0, pruned: 0, killed: 0, read: 0, restored: 0, letGo: 0 };

  async function takePoint(): Promise<void> {
    change();
    const sum = sumOf(source);
    const { runId } = await admin.call('runPolicy', { id: policyId, body: {} });
    await admin.ended(runId, 240_000);
    const now = await living();
    for (const id of now) if (!ledger.has(id)) ledger.set(id, sum);
    counts.taken++;
  }

  async function firstWorks(): Promise<void> {
    for (let n = 1; Date.now() < till; n++) {
      await takePoint();
      if (n % 4) continue;
      await admin.ended((await admin.call('pruneTarget', { id: targetId, body: {} })).runId, 240_000);
      counts.pruned++;
    }
  }

  async function kills(): Promise<void> {
    while (Date.now() < till) {
      await pause(randomInt(3000, 9000));
      const h = randomInt(3) ? first : second;
      await h.killMover('mover-1');
      await pause(randomInt(100, 1500));
      h.startMover('mover-1');
      counts.killed++;
    }
  }

  /** The mover is dead at times: a plan that has to ask one says so, and is asked for again. */
  async function whenAMoverIsThere<T>(call: () => Promise<T>): Promise<T> {
    for (const until = Date.now() + 60_000; ;) {
      try {
        return await call();
      } catch (error) {
        if (!(error instanceof Refused && error.code === 'MOVER_ABSENT') || Date.now() > until) throw error;
      }
      await pause(200);
    }
  }

  async function bringsBack(pointId: string): Promise<void> {
    const folder = `${second.folder}/back-${counts.restored}`;
    const body = { picks: [{ pointId, path: '' }], destination: { to: 'folder' as const, folder, keepPath: false }, reason: 'prove it' };
    let why = '';
    try {
      const run = await lighthouse.ended((await whenAMoverIsThere(() => lighthouse.call('startRestore', { body }))).runId, 240_000);
      if (run.state !== 'done') why = `${run.state}: ${run.cause?.code} ${run.cause?.message}`;
    } catch (error) {
      why = String(error);
    }
    if (why === '') {
      // the second may see a point before the first was told of it here
      await expect.poll(() => ledger.has(pointId), { timeout: 240_000 }).toBe(true);
      expect(sumOf(folder), `point ${pointId}`).toBe(ledger.get(pointId));
    }
    // the owner let it go between the reading and the restore: it may be told so, it may not be wrong
    else if (!(await living()).includes(pointId)) counts.letGo++;
    else throw new Error(`a listed point does not come back: ${why}`);
    fs.rmSync(folder, { recursive: true, force: true });
    counts.restored++;
  }

  async function secondFollows(): Promise<void> {
    while (Date.now() < till) {
      const run = await lighthouse.ended((await lighthouse.call('adoptTarget', { id: followedId })).runId, 240_000);
      expect(run.state, run.cause?.message).toBe('done');
      counts.read++;
      const points = await listed();
      for (const id of [points.at(0), points.at(-1), points[randomInt(points.length)]]) if (id !== undefined) await bringsBack(id);
    }
  }

  it(
    'brings back every point that it lists as it was, and takes over from a first that is dead',
    async () => {
      await takePoint();
      const { content: envelope } = await admin.call('envelope', { id: targetId, body: { passphrase } });
      const place = { kind: 'folder' as const, folder: `${first.folder}/store` };
      const made = await lighthouse.call('followTarget', { body: { name: 'north-store', place, envelope, passphrase, every: 5 } });
      followedId = made.id;
      await lighthouse.ended(made.runId);
      await Promise.all([firstWorks(), kills(), secondFollows()]);
      process.stdout.write(`${JSON.stringify(counts)}\n`);
      expect(Math.min(counts.taken, counts.pruned, counts.killed, counts.read, counts.restored)).toBeGreaterThan(0);
      // it does not look like this because everything was let go
      expect(counts.letGo).toBeLessThan(counts.restored / 2);

      await first.killMover('mover-1');
      const { runId } = await lighthouse.call('ownTarget', { id: followedId, body: { reason: 'the quay is under water' } });
      if (runId !== null) {
        const { state } = await lighthouse.ended(runId, 240_000);
        const { rows } = await lighthouse.call('runLog', { id: runId, query: { limit: 50 } });
        expect([state, rows.filter((r) => r.level === 'warning').map((r) => `${r.code} ${r.message}`)]).toEqual(['done', []]);
      }
      const known = await listed();
      expect(known.length).toBeGreaterThan(0);
      for (const id of known) await bringsBack(id);
    },
    minutes * 60_000 + 600_000,
  );
});
