import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { Placer, Restorer } from '@lithodex/connectors';
import { DiskFolder, Store, topEntry } from '@lithodex/engine';
import { closePools, takePoint } from '@lithodex/mover';
import type { Measured } from './measured';

const seriesId = 'bench';

/** Opens (or makes) the store of a bench folder. */
async function open(folder: string): Promise<Store> {
  const keyFile = `${folder}/key`;
  if (fs.existsSync(keyFile)) return Store.open(new DiskFolder(`${folder}/store`), fs.readFileSync(keyFile));
  fs.mkdirSync(`${folder}/store`);
  fs.writeFileSync(keyFile, randomBytes(32));
  return Store.create(new DiskFolder(`${folder}/store`), fs.readFileSync(keyFile), new Date());
}

/** Takes one point of the bench tree on top of `previous`. */
async function point(folder: string, taskId: string, previous: string | null): Promise<Omit<Measured, 'peakMb'>> {
  const store = await open(folder);
  const began = performance.now();
  const { root } = await takePoint(
    store,
    {
      taskId,
      seriesId,
      workload: { id: '1', name: 'bench', source: 'bench', path: `${folder}/tree` },
      kind: previous ? 'incremental' : 'full',
      previous,
      moment: 0,
      include: [],
      exclude: [],
      crossFileSystems: false,
      readAs: null,
      targetFolders: [],
    },
    { now: () => 0, onWarning: () => undefined, onCapture: () => undefined, stopped: () => false },
  );
  const seconds = (performance.now() - began) / 1000;
  await closePools();
  return { seconds, stored: root.totals.stored, chunks: store.index.chunks.size };
}

async function restore(folder: string, taskId: string): Promise<Omit<Measured, 'peakMb'>> {
  const store = await open(folder);
  const began = performance.now();
  const { root } = (await store.root(seriesId, taskId))!;
  let failed = 0;
  const placer = new Placer({
    trees: store.trees,
    chunks: store.reader,
    keys: store.keys,
    place: { kind: 'folder', folder: `${folder}/store` },
    onBytes: () => undefined,
    stopped: () => false,
  });
  const restorer = new Restorer({
    base: `${folder}/back`,
    rule: 'leave',
    stamp: '',
    taskId: 'bench',
    trial: false,
    trees: store.trees,
    keys: store.keys,
    placer,
    onItem: (item) => {
      if (item.action === 'failed') failed++;
    },
    drain: () => undefined,
    stopped: () => false,
  });
  await restorer.item(topEntry(root), '');
  restorer.close();
  await placer.close();
  if (failed) throw new Error(`${failed} items were not restored`);
  return { seconds: (performance.now() - began) / 1000, stored: 0, chunks: store.index.chunks.size };
}

/** One measured piece of work in a process of its own, so that its memory can be told. Prints JSON. */
export async function work(args: readonly string[]): Promise<void> {
  const [what, folder, taskId, previous] = args as [string, string, string, string | undefined];
  const measured = what === 'restore' ? await restore(folder, taskId) : await point(folder, taskId, previous ?? null);
  process.stdout.write(
    `${JSON.stringify({ ...measured, peakMb: Math.round(process.resourceUsage().maxRSS / 1024) } satisfies Measured)}\n`,
  );
}
