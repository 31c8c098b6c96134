import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { median, shippedRules } from '@lithodex/core';
import { closePools, fileContent, treeOf, everythingBelow, type OpenPoint } from '@lithodex/connectors';
import { DiskFolder, Store, topEntry } from '@lithodex/engine';
import { PointScanner, takePoint, type ScanSink } from '@lithodex/mover';
import { pointRequest, quietly } from '../tests/support/store-kit';
import type { Kept, Result } from './result';
import { Content } from './sample-tree';

const files = 8000;
const bytesEach = 128 << 10;

const unheard: ScanSink = {
  seen: () => Promise.resolve(),
  note: () => undefined,
  looked: () => undefined,
  stopped: () => false,
};

async function pointOf(store: Store, source: string, id: string, previous: string | null): Promise<OpenPoint> {
  const { root } = await takePoint(store, pointRequest(source, id, previous), quietly);
  return { kept: store, store, root, top: topEntry(root) };
}

async function readThrough(content: AsyncIterable<Buffer>): Promise<void> {
  const pieces = content[Symbol.asyncIterator]();
  while (!(await pieces.next()).done);
}

async function timed(use: () => Promise<void>): Promise<number> {
  const began = performance.now();
  await use();
  return (performance.now() - began) / 1000;
}

/** Scans a point beside only reading all of it, once more by the same rules, and eight points of which each changed a little by new ones. */
export async function scanBench(folder: string, runs: number, report: (r: Result) => void, keeps: (k: Kept) => void): Promise<void> {
  const source = `${folder}/scanned`;
  fs.mkdirSync(source);
  const content = new Content();
  for (let i = 0; i < files; i++) fs.writeFileSync(`${source}/f${i}`, content.text(bytesEach));
  fs.mkdirSync(`${folder}/scan-store`);
  const store = await Store.create(new DiskFolder(`${folder}/scan-store`), randomBytes(32), new Date());
  try {
    const points = [await pointOf(store, source, 'n0', null)];
    for (let night = 1; night < 8; night++) {
      for (let i = 0; i < 30; i++) fs.writeFileSync(`${source}/f${(night * 31 + i) % files}`, content.text(bytesEach));
      points.push(await pointOf(store, source, `n${night}`, `n${night - 1}`));
    }
    const [first] = points as [OpenPoint, ...OpenPoint[]];
    const by = { rules: shippedRules, sensitive: false };
    const scanned: number[] = [];
    const read: number[] = [];
    for (let i = 0; i < runs; i++) {
      scanned.push(
        await timed(async () => {
          const scanner = new PointScanner(by, unheard);
          await scanner.scan(undefined, first);
          await scanner.close();
        }),
      );
      read.push(
        await timed(async () => {
          for await (const { entry } of everythingBelow(treeOf(store), first.top, ''))
            if (entry.kind === 'file') await readThrough(fileContent(treeOf(store), entry));
        }),
      );
    }
    const [ours, peer] = [median(scanned), median(read)];
    report({ bench: 'scan', peer: 'reading all of it', ours_s: ours, peer_s: peer, ratio: peer / ours, runs, peak_mb: 0 });
    const again = new PointScanner(by, unheard);
    const before = await again.scan(undefined, first);
    const second = await again.scan(first, first);
    keeps({ bench: 'scan: read once more by the same rules', found: (second.read / before.read) * 100, below: 1, unit: '%' });
    const history = new PointScanner(by, unheard);
    let sum = 0;
    let previous: OpenPoint | undefined;
    for (const point of points) {
      sum += (await history.scan(previous, point)).read;
      previous = point;
    }
    await Promise.all([again.close(), history.close()]);
    const once = files * bytesEach + 7 * 30 * bytesEach;
    keeps({ bench: 'scan: history read, of what it holds once', found: (sum / once) * 100, below: 100.5, unit: '%' });
  } finally {
    await closePools();
  }
}
