import { createHash } from 'node:crypto';
import { joinPath, safeParts } from '@lithodex/core';
import { EngineError, type TreeEntry } from '@lithodex/engine';
import type { Cluster } from '@lithodex/kinds';
import { fileContent } from '../file-content';
import { tarEnd, tarHeader, tarPadding } from '../files/tar-writer';
import { everythingBelow, type ReadableTree } from '../readable-tree';
import { SourceError } from '../source-error';
import { diskPath, volumePath } from './helper-pod';
import { doInPod, runInPod, type InPod } from './pod-commands';
import { listingFormat, VolumeListing, type VolumeItem } from './volume-listing';
import { PassThrough } from 'node:stream';

export interface Filling {
  readonly cluster: Cluster;
  readonly at: InPod;
  readonly tree: ReadableTree;
  readonly entry: TreeEntry;
  readonly stopped: () => boolean;
  readonly moved: (bytes: number) => void;
}

/** Makes a volume what a point has of it, and looks that it is. Throws NOT_AS_STORED, COMMAND_FAILED, STOPPED. */
export async function fillVolume(filling: Filling): Promise<{ readonly items: number; readonly left: number }> {
  const { cluster, at, stopped } = filling;
  const streams = { stopped };
  await doInPod(cluster, at, ['find', volumePath, '-mindepth', '1', '-not', '-path', `${volumePath}/lost+found`, '-delete'], streams);
  const left = { count: 0 };
  const tar = ['tar', '-C', volumePath, '-x', '-p', '--same-owner', '--numeric-owner', '-f', '-'];
  await doInPod(cluster, at, tar, { ...streams, stdin: archiveOf(filling, left) });
  const listing = new VolumeListing();
  await doInPod(cluster, at, ['find', volumePath, '-mindepth', '1', '-xdev', '-printf', listingFormat], { ...streams, stdout: listing });
  const items = await mustBeAsStored(filling, listing.top);
  return { items, left: left.count };
}

async function* archiveOf({ tree, entry: top, moved }: Filling, left: { count: number }): AsyncGenerator<Uint8Array> {
  const linked = new Map<string, string>();
  const names = { owner: '', group: '' };
  for await (const { path, entry } of everythingBelow(tree, { ...top, name: '' }, '')) {
    if (!safeParts(path)) throw new EngineError('PATH_MISSING', path);
    if (entry.unread) {
      left.count++;
      continue;
    }
    const link = entry.hardId ? linked.get(entry.hardId) : undefined;
    const header = tarHeader(path, entry, names, link);
    if (!header) continue;
    yield header;
    if (entry.kind !== 'file' || link !== undefined) continue;
    for await (const part of fileContent(tree, entry)) {
      moved(part.length);
      yield part;
    }
    yield tarPadding(entry.size);
    if (entry.hardId) linked.set(entry.hardId, path);
  }
  yield tarEnd;
}

/** Every item is there, of its kind and size, and nothing else. Gives how many. */
async function mustBeAsStored({ tree, entry: top }: Filling, there: Map<string, VolumeItem>): Promise<number> {
  let items = 0;
  const differs = (path: string) => new SourceError('NOT_AS_STORED', path === '' ? 'the volume' : path);
  const compare = async (entry: TreeEntry, now: Map<string, VolumeItem>, path: string): Promise<void> => {
    const seen = new Set<string>();
    if (entry.folder)
      for await (const piece of tree.trees.pieces(entry.folder.node))
        for (const own of piece) {
          if (own.unread || own.kind === 'socket' || own.kind === 'char' || own.kind === 'block') continue;
          items++;
          const found = now.get(own.name);
          const place = joinPath(path, own.name);
          if (found?.kind !== own.kind || found.size !== own.size || (own.linkTarget ?? '') !== found.linkTarget) throw differs(place);
          seen.add(own.name);
          if (found.below) await compare(own, found.below, place);
        }
    for (const name of now.keys()) if (!seen.has(name)) throw differs(joinPath(path, name));
  };
  await compare(top, there, '');
  return items;
}

/** Writes a volume of blocks, and looks that it holds what was written. Throws NOT_AS_STORED, COMMAND_FAILED, STOPPED. */
export async function fillDisk({ cluster, at, tree, entry, stopped, moved }: Filling): Promise<void> {
  const hash = createHash('sha256');
  const content = async function* () {
    for await (const part of fileContent(tree, entry)) {
      hash.update(part);
      moved(part.length);
      yield part;
    }
  };
  await doInPod(cluster, at, ['dd', `of=${diskPath}`, 'bs=1M', 'iflag=fullblock', 'conv=notrunc,fsync', 'status=none'], {
    stdin: content(),
    stopped,
  });
  const wanted = hash.digest('hex');
  const read = createHash('sha256');
  let rest = entry.size;
  const pipe = new PassThrough({ highWaterMark: 4 << 20 });
  const look = (async () => {
    for await (const part of pipe as AsyncIterable<Buffer>) {
      read.update(part.subarray(0, Math.min(part.length, rest)));
      rest -= Math.min(part.length, rest);
    }
  })();
  const [{ code, complaint }] = await Promise.all([
    runInPod(cluster, at, ['head', '-c', String(entry.size), diskPath], { stdout: pipe, stopped }),
    look,
  ]);
  if (code !== 0) throw new SourceError('COMMAND_FAILED', complaint);
  if (rest > 0 || read.digest('hex') !== wanted) throw new SourceError('NOT_AS_STORED', 'a volume of blocks');
}
