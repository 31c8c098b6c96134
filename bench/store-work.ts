import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { threadsOf, treeOf, closePools, HostLimits, Placer, poolToPlace, Restorer } from '@lithodex/connectors';
import { baseName } from '@lithodex/core';
import { DiskFolder, Store, topEntry, type Root } from '@lithodex/engine';
import { takePoint } from '@lithodex/mover';
import { folderTree, quietly } from '../tests/support/store-kit';
import type { Measured } from './measured';

/** Opens (or makes) the store of a bench folder. */
async function open(folder: string): Promise<Store> {
  const keyFile = `${folder}/key`;
  if (fs.existsSync(keyFile)) return Store.open(new DiskFolder(`${folder}/store`), fs.readFileSync(keyFile));
  fs.mkdirSync(`${folder}/store`);
  fs.writeFileSync(keyFile, randomBytes(32));
  return Store.create(new DiskFolder(`${folder}/store`), fs.readFileSync(keyFile), new Date());
}

/** Takes one point of a folder, as a series of the folder's own, on top of `previous`. */
async function take(store: Store, path: string, taskId: string, previous: string | null): Promise<Root> {
  const { root } = await takePoint(
    store,
    {
      taskId,
      seriesId: baseName(path),
      workload: { id: '1', name: 'bench', source: 'bench', path },
      kind: previous ? 'incremental' : 'full',
      previous,
      moment: 0,
      include: [],
      exclude: [],
      from: folderTree(path),
    },
    quietly,
  );
  return root;
}

async function bringBack(store: Store, path: string, taskId: string, to: string): Promise<void> {
  const { root } = (await store.root(baseName(path), taskId))!;
  let failed = 0;
  const placer = new Placer({
    tree: treeOf(store),
    threads: threadsOf(store, poolToPlace(store)),
    onBytes: () => undefined,
    stopped: () => false,
  });
  const restorer = new Restorer({
    base: to,
    limits: HostLimits.none,
    cameFrom: undefined,
    rule: 'leave',
    stamp: '',
    taskId: 'bench',
    trial: false,
    tree: treeOf(store),
    placer,
    onItem: (item) => {
      if (item.action === 'failed') failed++;
    },
    drain: () => undefined,
    stopped: () => false,
  });
  await restorer.item(topEntry(root), '');
  restorer.close();
  placer.close();
  if (failed) throw new Error(`${failed} items were not restored`);
}

/** A mover goes on from task to task: what is measured does not begin with code that has never run, and comes after its like. */
async function warmUp(store: Store, folder: string, what: string): Promise<void> {
  const tree = `${folder}/warm-up`;
  if (!fs.existsSync(tree)) return;
  const taskId = randomBytes(8).toString('hex');
  const back = `${folder}/warm-up-${taskId}`;
  await take(store, tree, taskId, null);
  if (what === 'restore') await take(store, tree, `${taskId}-again`, taskId);
  await bringBack(store, tree, taskId, back);
  if (what !== 'restore') await take(store, tree, `${taskId}-again`, null);
  fs.rmSync(back, { recursive: true });
}

/** One measured piece of work in a process of its own, so that its memory can be told. Prints JSON. */
async function work(args: readonly string[]): Promise<void> {
  const [what, folder, taskId, previous] = args as [string, string, string, string | undefined];
  const store = await open(folder);
  await warmUp(store, folder, what);
  const began = performance.now();
  let stored = 0;
  if (what === 'restore') await bringBack(store, `${folder}/tree`, taskId, `${folder}/back`);
  else ({ stored } = (await take(store, `${folder}/tree`, taskId, previous ?? null)).totals);
  const seconds = (performance.now() - began) / 1000;
  await closePools();
  const peakMb = Math.round(process.resourceUsage().maxRSS / 1024);
  process.stdout.write(`${JSON.stringify({ seconds, stored, chunks: store.index.chunks.size, peakMb } satisfies Measured)}\n`);
}

await work(process.argv.slice(2));
process.exit(0);
