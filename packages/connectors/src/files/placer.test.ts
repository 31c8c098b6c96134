import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { DiskFolder, Store, writeFolder, type TreeEntry } from '@lithodex/engine';
import { expect, it, vi } from 'vitest';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import { readBatch } from './place-message';
import { PlacePool } from './place-pool';
import { HostLimits } from './host-limits';
import { Placer, threadsOf } from './placer';
import { treeOf } from '../readable-tree';
import { Restorer } from './restore';

it('leaves the files of a block to one thread, in order, and gives both threads about as much', async () => {
  const base = temporaryFolder('placer');
  fs.mkdirSync(`${base}/store`);
  const store = await Store.create(new DiskFolder(`${base}/store`), randomBytes(32), new Date(0));
  const writer = store.writer();
  const plain = { mode: 0o755, uid: 0, gid: 0, mtimeNs: 0n, ctimeNs: 0n, inode: 1 };
  const entries: TreeEntry[] = [];
  for (let i = 0; i < 6000; i++) {
    const data = randomBytes(5000);
    entries.push({
      name: `file-${String(i).padStart(4, '0')}`,
      kind: 'file',
      ...plain,
      size: data.length,
      content: { names: writer.put(data), lengths: [data.length] },
    });
    if (writer.full) await writer.drain();
  }
  const folder = writeFolder((d) => writer.put(d), entries);
  await writer.finish();

  const pool = new PlacePool(store.keys, store.target.place);
  const sent = vi.spyOn(pool, 'send');
  const placer = new Placer({ tree: treeOf(store), threads: threadsOf(store, pool), onBytes: () => undefined, stopped: () => false });
  const batches: { thread: number | undefined; blocks: string[] }[] = [];
  sent.mockImplementation((request, weight, handedOver, thread) => {
    if (request.type === 'files')
      batches.push({ thread, blocks: [...readBatch(request.batch)].flatMap(({ chunks }) => chunks.map(({ location }) => location.id)) });
    PlacePool.prototype.send.call(pool, request, weight, handedOver, thread);
  });
  const restorer = new Restorer({
    base: `${base}/back`,
    limits: HostLimits.none,
    cameFrom: undefined,
    rule: 'leave',
    stamp: '',
    taskId: 't',
    trial: false,
    tree: treeOf(store),
    placer,
    onItem: () => undefined,
    drain: () => undefined,
    stopped: () => false,
  });
  await restorer.item({ name: '', kind: 'folder', size: 0, ...plain, folder }, '');
  restorer.close();
  placer.close();
  await pool.close();

  const threadOf = new Map<string, number | undefined>();
  const files = [0, 0];
  for (const { thread, blocks } of batches)
    for (const id of blocks) {
      expect(threadOf.get(id) ?? thread).toBe(thread);
      threadOf.set(id, thread);
      files[thread!]!++;
    }
  expect(threadOf.size).toBeGreaterThan(20);
  // within a pack no thread has more than one block more than the other, and a block holds some two hundred files
  expect(Math.abs(files[0]! - files[1]!)).toBeLessThan(600);
  for (const thread of [0, 1]) {
    const order = batches.filter((b) => b.thread === thread).flatMap((b) => b.blocks);
    expect(order.filter((id, i) => id !== order[i - 1])).toHaveLength(new Set(order).size);
  }
  fs.rmSync(base, { recursive: true, force: true });
});
