import { closePools } from '@lithodex/connectors';
import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { affected, DiskFolder, EngineError, prune, Store, verify, type PruneReport } from '@lithodex/engine';
import fc from 'fast-check';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { rounds } from '../../../../tests/support/by-command';
import { diskUse, temporaryFolder } from '../../../../tests/support/nasty-tree';
import { FailingFolder, folderTree, quietly, readAllPoints } from '../../../../tests/support/store-kit';
import { takePoint } from './take-point';

/** A disk folder in which the next commit can be held back, and the n-th change fails. */
class Staged extends FailingFolder {
  gate: Promise<void> | undefined;
  reached: () => void = () => undefined;
  /** Runs once right before the series are listed. */
  beforeListing: (() => Promise<unknown>) | undefined;
  override async list(prefix: string): Promise<string[]> {
    const run = prefix === 'roots/' ? this.beforeListing : undefined;
    if (run) {
      this.beforeListing = undefined;
      await run();
    }
    return super.list(prefix);
  }
  override async putExclusive(name: string, data: Uint8Array): Promise<boolean> {
    const { gate } = this;
    this.gate = undefined;
    if (gate) {
      this.reached();
      await gate;
    }
    return super.putExclusive(name, data);
  }
}

let base: string;
const keyFile = randomBytes(32);
const open = () => Store.open(new Staged(`${base}/store`), keyFile);

beforeEach(async () => {
  base = temporaryFolder('prune');
  fs.mkdirSync(`${base}/store`);
  await Store.create(new DiskFolder(`${base}/store`), keyFile, new Date(0));
});
afterEach(async () => {
  await closePools();
  fs.rmSync(base, { recursive: true, force: true });
});

/** Makes the source hold exactly these files. */
function source(series: string, files: Record<string, Buffer>): void {
  fs.rmSync(`${base}/${series}`, { recursive: true, force: true });
  fs.mkdirSync(`${base}/${series}`);
  for (const [name, data] of Object.entries(files)) fs.writeFileSync(`${base}/${series}/${name}`, data);
}

function take(store: Store, taskId: string, series = 's1', previous: string | null = null) {
  const workload = { id: 'w', name: 'w', source: 'w', path: `${base}/${series}` };
  const rest = { from: folderTree(workload.path), include: [], exclude: [] };
  return takePoint(
    store,
    { taskId, seriesId: series, workload, kind: previous ? 'incremental' : 'full', previous, moment: 0, ...rest },
    quietly,
  );
}

const nobody = () => Promise.resolve(new Set<string>());
const all = (tasks: readonly string[]) => Promise.resolve(new Set(tasks));
const run = (store: Store, more: { trial?: boolean; alive?: typeof all } = {}): Promise<PruneReport> =>
  prune(store, { alive: more.alive ?? all, trial: more.trial ?? false, stopped: () => false });

/** Every point, read with a store opened afresh. */
const readAll = async () => readAllPoints(await open());

const listing = () => fs.readdirSync(`${base}/store`, { recursive: true, encoding: 'utf8' }).sort();
const packs = () => listing().filter((name) => /^packs\/..\/./.test(name)).length;

describe('pruning', () => {
  it('gives back what only removed points needed, at once when nobody is at work, and leaves the rest whole', async () => {
    const shared = randomBytes(400_000);
    const store = await open();
    let previous: string | null = null;
    for (let i = 0; i < 5; i++) {
      source('s1', { shared, [`own-${i}`]: randomBytes(700_000) });
      await take(store, `t${i}`, 's1', previous);
      previous = `t${i}`;
    }
    const before = diskUse(`${base}/store`);
    for (const gone of ['t0', 't1', 't2']) await store.removeRoot('s1', gone);
    const trial = await run(store, { trial: true });
    const untouched = listing();
    expect(trial).toMatchObject({ points: 2, freedPacks: 0, rewrittenPacks: 1 });
    expect(listing()).toEqual(untouched);
    const report = await run(store);
    expect(report.freedPacks).toBe(trial.waitingPacks);
    expect(report.waitingPacks).toBe(0);
    expect(before - diskUse(`${base}/store`)).toBeGreaterThan(1_900_000);
    expect(await readAll()).toEqual(['t3', 't4']);
    expect(await run(store)).toMatchObject({ freedPacks: 0, waitingPacks: 0, rewrittenPacks: 0 });

    const other = await open();
    source('s1', { shared, last: randomBytes(1000) });
    expect((await take(other, 't5', 's1', 't4')).root.totals.stored).toBeLessThan(100_000);
    expect((await take(store, 't6', 's1', 't5')).root.totals.fresh).toBe(0);
    expect(await readAll()).toEqual(['t3', 't4', 't5', 't6']);
  });

  it('takes what an interrupted run left, but not while a run is at work', async () => {
    const store = await open();
    const target = store.target as Staged;
    source('s1', { a: randomBytes(500_000) });
    target.failAt = target.changes + 3;
    await expect(take(store, 't1')).rejects.toThrow();
    target.failAt = Infinity;
    const reader = await store.pins.pin('somebody');
    expect(packs()).toBeGreaterThan(0);
    expect(await run(store)).toMatchObject({ freedPacks: 0 });
    expect(packs()).toBeGreaterThan(0);
    await store.pins.release(reader);
    await run(store);
    expect(packs()).toBe(0);
  });

  it('never takes what a run that has not committed yet builds on', async () => {
    const data = randomBytes(600_000);
    const store = await open();
    source('s1', { data });
    await take(store, 't1');
    await store.removeRoot('s1', 't1');

    const second = await open();
    const held = hold(second);
    source('s2', { data, more: randomBytes(200_000) });
    const running = take(second, 't2', 's2');
    await held.reached;
    expect(await run(store)).toMatchObject({ freedPacks: 0 });
    expect(await run(store)).toMatchObject({ freedPacks: 0 });
    held.release();
    expect((await running).root.totals.read).toBe(800_000);
    await run(store);
    expect(await readAll()).toEqual(['t2']);
    expect(await run(store)).toMatchObject({ freedPacks: 0, waitingPacks: 0 });
  });

  it('gives up a task that can not go on, so that it can never commit a point with parts missing', async () => {
    const data = randomBytes(600_000);
    const store = await open();
    source('s1', { data });
    await take(store, 't1');
    await store.removeRoot('s1', 't1');
    const asleep = await open();
    const held = hold(asleep);
    source('s2', { data });
    const running = take(asleep, 't2', 's2');
    await held.reached;
    const report = await run(store, { alive: nobody });
    expect(report.freedPacks).toBeGreaterThan(0);
    held.release();
    await expect(running).rejects.toMatchObject({ code: 'TASK_GIVEN_UP' });
    expect(await readAll()).toEqual([]);
    await run(store, { alive: nobody });
    expect(packs()).toBe(0);
  });

  it('waits for one of another installation that reads, until its pin has run out', async () => {
    const store = await open();
    source('s1', { data: randomBytes(300_000) });
    await take(store, 't1');
    const pin = await store.pins.pinUntil('elsewhere', Date.now() + 60_000);
    await store.removeRoot('s1', 't1');
    expect((await run(store, { alive: nobody })).freedPacks).toBe(0);
    expect((await run(store, { alive: nobody })).freedPacks).toBe(0);
    expect(packs()).toBeGreaterThan(0);
    // one that is meant to count for years does not
    await store.pins.pinUntil('elsewhere', Date.now() + 1e12, pin);
    await run(store, { alive: nobody });
    await run(store, { alive: nobody });
    expect(packs()).toBe(0);
  });

  it('is not disturbed by a point that appears while it looks, nor is verification', async () => {
    const store = await open();
    const target = store.target as Staged;
    source('s1', { a: randomBytes(50_000) });
    await take(store, 't1');
    const appear = (task: string) => async () => {
      source('s2', { b: randomBytes(50_000) });
      await take(await open(), task, 's2');
    };
    target.beforeListing = appear('t2');
    expect(await run(store)).toMatchObject({ points: 2, freedPacks: 0, waitingPacks: 0 });
    const { lost } = await verify(store, { stopped: () => false });
    target.beforeListing = appear('t3');
    const items = [];
    for await (const item of affected(store, lost, () => false)) items.push(item);
    expect(items).toEqual([]);
    expect(await readAll()).toEqual(['t1', 't2', 't3']);
  });

  it('makes runs that begin later store anew what is condemned', async () => {
    const data = randomBytes(600_000);
    const store = await open();
    source('s1', { data });
    await take(store, 't1');
    await store.removeRoot('s1', 't1');
    const reader = await store.pins.pin('reader');
    expect(await run(store)).toMatchObject({ freedPacks: 0 });
    source('s2', { data });
    expect((await take(store, 't2', 's2')).root.totals.stored).toBeGreaterThan(590_000);
    await store.pins.release(reader);
    expect((await run(store)).freedPacks).toBeGreaterThan(0);
    expect(await readAll()).toEqual(['t2']);
  });

  it('does nothing when a point can not be read, and can be broken off anywhere', async () => {
    const store = await open();
    for (let i = 0; i < 4; i++) {
      source('s1', { same: Buffer.alloc(300_000, 'same'), [`own-${i}`]: randomBytes(300_000) });
      await take(store, `t${i}`);
    }
    await store.removeRoot('s1', 't0');
    await store.removeRoot('s1', 't2');
    fs.cpSync(`${base}/store`, `${base}/kept`, { recursive: true });
    for (let n = 1; ; n++) {
      fs.rmSync(`${base}/store`, { recursive: true });
      fs.cpSync(`${base}/kept`, `${base}/store`, { recursive: true });
      const broken = await open();
      const target = broken.target as Staged;
      target.failAt = target.changes + n;
      const done = await run(broken).catch((error: unknown) => (error as EngineError).code);
      expect(await readAll()).toEqual(['t1', 't3']);
      await run(await open());
      expect(await readAll()).toEqual(['t1', 't3']);
      expect(await run(await open(), { trial: true })).toMatchObject({ waitingPacks: 0 });
      if (typeof done !== 'string') {
        expect(n).toBeGreaterThan(5);
        break;
      }
    }
    const root = `${base}/store/roots/s1/t1`;
    fs.writeFileSync(root, fs.readFileSync(root).fill(7, 100, 110));
    await store.removeRoot('s1', 't3');
    const untouched = listing();
    await expect(run(await open())).rejects.toMatchObject({ code: 'OBJECT_DAMAGED' });
    expect(listing()).toEqual(untouched);
  });

  it('that slept through the work of another does no harm when it writes back an index entry of a pack that is gone', async () => {
    const content = randomBytes(900_000);
    source('s1', { kept: randomBytes(300_000) });
    await take(await open(), 't0');
    source('s1', { gone: content });
    await take(await open(), 't1', 's1');
    await (await open()).removeRoot('s1', 't1');
    const before = fs.readdirSync(`${base}/store/index`).map((name) => [name, fs.readFileSync(`${base}/store/index/${name}`)] as const);
    await run(await open(), { alive: nobody });
    const after = fs.readdirSync(`${base}/store/index`);
    const lost = before.filter(([name]) => !after.includes(name));
    expect(lost.length).toBeGreaterThan(0);
    for (const [name, file] of lost) fs.writeFileSync(`${base}/store/index/${name}`, file);
    source('s2', { again: content });
    await take(await open(), 't2', 's2');
    expect(await readAll()).toEqual(['t0', 't2']);
    await run(await open(), { alive: nobody });
    expect(await readAll()).toEqual(['t0', 't2']);
  });

  it('keeps every point whole through any order of runs, expiry, sleeping runs and prunes', async () => {
    const pool = Array.from({ length: 6 }, () => randomBytes(150_000));
    const files = fc.uniqueArray(fc.nat(5), { minLength: 1, maxLength: 4 });
    const act = fc.oneof(
      fc.record({ kind: fc.constant('take' as const), files }),
      fc.record({ kind: fc.constant('sleep' as const), files }),
      fc.record({ kind: fc.constant('wake' as const), dead: fc.boolean() }),
      fc.record({ kind: fc.constant('expire' as const), which: fc.nat(9) }),
      fc.record({ kind: fc.constant('prune' as const) }),
    );
    let n = 0;
    await fc.assert(
      fc.asyncProperty(fc.array(act, { minLength: 4, maxLength: 12 }), async (acts) => {
        fs.rmSync(`${base}/store`, { recursive: true });
        fs.mkdirSync(`${base}/store`);
        await Store.create(new DiskFolder(`${base}/store`), keyFile, new Date(0));
        const store = await open();
        const living = new Set<string>();
        const asleep: { task: string; running: Promise<unknown>; release: () => void }[] = [];
        const dead = new Set<string>();
        const alive = (tasks: readonly string[]) => Promise.resolve(new Set(tasks.filter((t) => !dead.has(t))));
        const wake = async (sleeper: (typeof asleep)[number]) => {
          sleeper.release();
          await sleeper.running.then(
            () => living.add(sleeper.task),
            () => expect(dead.has(sleeper.task)).toBe(true),
          );
        };
        const fill = (numbers: number[]) => {
          source('s1', Object.fromEntries(numbers.map((i) => [`f${i}`, pool[i]!])));
        };
        for (const a of acts) {
          if (a.kind === 'take') {
            fill(a.files);
            await take(store, `t${++n}`);
            living.add(`t${n}`);
          } else if (a.kind === 'sleep') {
            fill(a.files);
            const own = await open();
            const held = hold(own);
            const running = take(own, `t${++n}`);
            await held.reached;
            asleep.push({ task: `t${n}`, running, release: held.release });
          } else if (a.kind === 'wake') {
            const sleeper = asleep.shift();
            if (sleeper && a.dead) {
              dead.add(sleeper.task);
              await run(store, { alive });
            }
            if (sleeper) await wake(sleeper);
          } else if (a.kind === 'expire') {
            const gone = [...living][a.which % Math.max(1, living.size)];
            if (gone) {
              await store.removeRoot('s1', gone);
              living.delete(gone);
            }
          } else await run(store, { alive });
          expect((await readAll()).sort()).toEqual([...living].sort());
        }
        for (const sleeper of asleep) await wake(sleeper);
        await run(store, { alive });
        await run(store, { alive });
        expect((await readAll()).sort()).toEqual([...living].sort());
        if (living.size === 0) expect(packs()).toBe(0);
      }),
      { numRuns: rounds(3, 10) },
    );
  }, 240_000);
});

/** Holds back the next commit of this store. */
function hold(store: Store): { reached: Promise<void>; release: () => void } {
  const target = store.target as Staged;
  let release: () => void = () => undefined;
  target.gate = new Promise<void>((resolve) => (release = resolve));
  const reached = new Promise<void>((resolve) => (target.reached = resolve));
  return { reached, release };
}
