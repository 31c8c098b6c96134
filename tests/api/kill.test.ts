import fs from 'node:fs';
import type { BodyInput } from '@lithodex/contract';
import { Cartridges, DiskFolder, Store } from '@lithodex/engine';
import { LibraryService } from '@lithodex/standins';
import { afterEach, beforeEach, expect, it } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';
import { readAllPoints } from '../support/store-kit';
import { describeTree } from '../support/nasty-tree';

/** The long form goes on in a new installation now and then: with every kill there is more to verify, and each proves what it holds. */
const killsAtOnce = 100;
const all = Number(process.env['LITHODEX_KILLS'] ?? 3);
const parts = Array.from({ length: Math.ceil(all / killsAtOnce) }, (_, part) => ({
  kills: Math.min(killsAtOnce, all - part * killsAtOnce),
  seed: 20261123 + part,
}));
let h: Harness;
let admin: Client;
let library: LibraryService;

beforeEach(async () => {
  h = await Harness.start({ leaseMs: 1600, ownDatabase: true });
  admin = await h.withToken('administrator');
  library = new LibraryService({ folder: `${h.folder}/library`, token: 'the token of the library', drives: 2, slots: 60 });
});
afterEach(async () => {
  await library.stop();
  await h.stop();
});

const acts = ['backup', 'backup', 'restore', 'verify', 'backup', 'prune', 'backup', 'newKey', 'synthetic', 'adopt'] as const;
const pause = (ms: number) => new Promise((resume) => setTimeout(resume, ms));

/** Calls again while the server is away or its answer was lost on the way. */
async function insist<T>(call: () => Promise<T>): Promise<T> {
  for (const until = Date.now() + 30_000; ;) {
    try {
      return await call();
    } catch (error) {
      const passing = error instanceof TypeError || (error as { status?: number }).status === 503;
      if (!passing || Date.now() > until) throw error;
      await pause(60);
    }
  }
}

it.each(parts)(
  'loses nothing when mover and server are killed $kills times (from $seed) in backups, locked copies, copies to cartridges, restores, fulls put together, verifications, prunes, changes of key and takings into the catalog',
  async ({ kills, seed }) => {
    const { source, workloadId, targetId } = await h.connect(admin);
    const far = (await admin.call('addTarget', { body: { name: 'far', place: { kind: 'folder', folder: `${h.folder}/far` } } })).id;
    const cartridges = {
      kind: 'cartridges' as const,
      endpoint: await library.start(),
      token: 'the token of the library',
      barcodes: 'KH',
      folder: `${h.folder}/vault`,
    };
    for (let n = 10; n < 60; n++) library.library.addNew(`KH${n}`, 400_000);
    const vault = (await admin.call('addTarget', { body: { name: 'vault', place: cartridges } })).id;
    const copies: BodyInput<'addPolicy'>['rules'][number]['copies'] = [
      { targetId: far, rhythm: 'every', keep: { by: 'days', days: 60 }, lockDays: 1 },
      { targetId: vault, rhythm: 'every', keep: { by: 'points', points: 10 } },
    ];
    const targets = [targetId, far, vault];
    const { id: policyId } = await admin.call('addPolicy', { body: policyFor([workloadId], targetId, { changeLimit: 100, copies }) });
    await h.detachServer();
    const seen = new Map<string, string>();
    let random = seed;
    const next = (n: number) => {
      random = (Math.imul(random, 1664525) + 1013904223) >>> 0;
      // the low bits of such numbers take turns
      return Math.floor((random / 2 ** 32) * n);
    };
    for (let round = 0; round < kills; round++) {
      for (let i = 0; i < 12; i++) {
        const folder = `${source}/folder-${next(6)}`;
        fs.mkdirSync(folder, { recursive: true });
        fs.writeFileSync(`${folder}/file-${next(80)}`, Buffer.alloc(next(60_000), round + i));
      }
      fs.writeFileSync(`${source}/large`, Buffer.alloc(2_000_000, `round ${round} `));
      const act = seen.size ? acts[round % acts.length]! : 'backup';
      const restoring = act === 'restore';
      const before = describeTree(source);
      const { runId } = await insist(async () => {
        const unlessBusy = (e: unknown) => {
          if ((e as { code?: string }).code === 'NOT_NOW') return { runId: 0 };
          throw e;
        };
        const id = targets[next(3)]!;
        if (act === 'backup') return admin.call('runPolicy', { id: policyId, body: {} }).catch(unlessBusy);
        if (act === 'synthetic')
          return admin
            .call('protectOnce', { id: workloadId, body: { kind: 'synthetic', keep: { by: 'days', days: 1 } } })
            .catch(unlessBusy);
        if (act === 'verify') return admin.call('verifyTarget', { id }).catch(unlessBusy);
        if (act === 'adopt') return admin.call('adoptTarget', { id }).catch(unlessBusy);
        if (act === 'newKey') {
          // the answer may be lost with the mover or the server that is killed
          void admin.call('newKey', { id }).catch(() => undefined);
          return { runId: 0 };
        }
        if (act === 'prune') return admin.call('pruneTarget', { id, body: {} }).catch(unlessBusy);
        const point = (await admin.call('workload', { id: workloadId })).pointList.at(-1)!;
        return admin.call('startRestore', {
          body: {
            picks: [{ pointId: point.id, path: '' }],
            destination: { to: 'folder', folder: `${h.folder}/back-${round}` },
            reason: 'killed on the way',
          },
        });
      });
      await pause(next(350));
      if (next(2)) {
        await h.killMover('mover-1');
        await pause(next(40));
        h.startMover('mover-1');
      } else {
        await h.killServer();
        await h.detachServer();
      }
      const id = runId || (await insist(() => admin.call('listRuns', { query: { limit: 1 } }))).rows[0]!.id;
      const run = await insist(() => admin.ended(id, 120_000));
      const fine = run.state === 'done' || run.cause !== null;
      const log = fine ? [] : (await insist(() => admin.call('runLog', { id, query: {} }))).rows.map((l) => l.message);
      expect(fine, `run ${id}, a ${run.kind}, is ${run.state}: ${log.join('; ')}`).toBe(true);
      if (act === 'backup' && run.kind === 'backup' && run.state === 'done') seen.set(run.tasks[0]!.pointId!, before);
      if (restoring && run.state === 'done') fs.rmSync(`${h.folder}/back-${round}`, { recursive: true });
    }
    await insist(() => h.idle(admin));
    const runs = await insist(() => admin.call('listRuns', { query: { limit: 500 } }));
    expect(runs.rows.filter((r) => r.state === 'running' || r.state === 'waiting')).toEqual([]);
    const { pointList } = await insist(() => admin.call('workload', { id: workloadId }));
    expect(new Set(pointList.map((p) => p.id)).size).toBe(pointList.length);
    expect(new Set(pointList.map((p) => p.runId)).size).toBe(pointList.length);
    expect([...seen.keys()].filter((id) => !pointList.some((p) => p.id === id))).toEqual([]);
    for (const [id, target] of [
      [targetId, new DiskFolder(`${h.folder}/store`)],
      [far, new DiskFolder(`${h.folder}/far`)],
      [vault, new Cartridges(cartridges)],
    ] as const) {
      const store = await Store.open(target, fs.readFileSync(`${h.folder}/keys/${id}.key`));
      const whole = new Set(await readAllPoints(store));
      const listed = pointList.filter((p) => p.copies.some((c) => c.targetId === id)).map((p) => p.id);
      expect(listed.length).toBeGreaterThan(0);
      expect(listed.filter((p) => !whole.has(p))).toEqual([]);
    }
    const withoutTop = (text: string) =>
      text
        .split('\n')
        .filter((line) => !line.startsWith('|d|'))
        .join('\n');
    for (const point of pointList) {
      const to = `${h.folder}/proof`;
      const { runId } = await admin.call('startRestore', {
        body: { picks: [{ pointId: point.id, path: '' }], destination: { to: 'folder', folder: to }, reason: 'proof' },
      });
      const run = await admin.ended(runId);
      expect([point.id, run.state, run.counts.failed]).toEqual([point.id, 'done', 0]);
      const expected = seen.get(point.id);
      if (expected) expect(withoutTop(describeTree(to))).toBe(withoutTop(expected));
      fs.rmSync(to, { recursive: true });
    }
    // the long form is told part by part, so that one that is cut short still says what it has proven
    if (parts.length > 1) process.stdout.write(`${kills} kills from ${seed}: ${pointList.length} points, every one of them whole\n`);
  },
  1_800_000,
);

it('survives a restart of the database in the middle of a run', async () => {
  const { source, workloadId } = await h.connect(admin);
  for (let i = 0; i < 3000; i++) {
    fs.mkdirSync(`${source}/${i % 30}`, { recursive: true });
    fs.writeFileSync(`${source}/${i % 30}/${i}`, `content ${i}`);
  }
  const { runId } = await admin.call('protectOnce', { id: workloadId, body: {} });
  await pause(150);
  await h.restartDatabase();
  const run = await insist(() => admin.ended(runId, 60_000));
  expect(run.state === 'done' || run.cause !== null).toBe(true);
  const { runId: second } = await insist(() => admin.call('protectOnce', { id: workloadId, body: {} }));
  const after = await insist(() => admin.ended(second, 60_000));
  expect(after.state).toBe('done');
  expect(after.counts.files).toBe(3000);
}, 180_000);
