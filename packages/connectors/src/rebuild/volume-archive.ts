import { createHash } from 'node:crypto';
import { joinPath, safeParts } from '@lithodex/core';
import { EngineError, type Root, type TreeEntry } from '@lithodex/engine';
import type { ServerVolume } from '@lithodex/kinds';
import type { RestoredItem } from '../connector';
import { filePieces, zerosBetween } from '../file-content';
import { sparseTarHeader, tarEnd, tarHeader, tarPadding } from '../files/tar-writer';
import { findWithParents, type ReadableTree } from '../readable-tree';

/** Files of a volume, out of the tree of the server it was part of. */
export interface VolumeTree {
  readonly tree: ReadableTree;
  readonly root: Root;
  readonly top: TreeEntry;
  readonly volume: ServerVolume;
  /** Where other volumes of the point were mounted: their files are theirs. */
  readonly otherMounts: ReadonlySet<string>;
}

/** A piece of an archive, or the sum of a file that the pieces before held. */
export type ArchivePart = { readonly data: Buffer } | { readonly sum: readonly [path: string, sha256: string] };

/** Path below the top of the point, as a byte string without a slash before it. */
const placeOf = (mount: string) => Buffer.from(mount.replace(/^\/+/, '')).toString('latin1');

/** The folder of the point that was the top of a volume; undefined where the point lacks it. */
export async function topOf({ tree, top, volume }: Pick<VolumeTree, 'tree' | 'top' | 'volume'>): Promise<TreeEntry | undefined> {
  if (volume.mount === '/') return top;
  try {
    return (await findWithParents(tree.trees, top, placeOf(volume.mount))).entry;
  } catch (error) {
    if (error instanceof EngineError && error.code === 'PATH_MISSING') return undefined;
    throw error;
  }
}

/** The files of a volume as a tar archive, with a sum for each. `done` is told each item. */
export async function* volumeArchive(from: VolumeTree, done: (item: RestoredItem) => void): AsyncGenerator<ArchivePart> {
  const { tree, root, volume, otherMounts } = from;
  const top = await topOf(from);
  const linked = new Map<string, string>();
  const place = placeOf(volume.mount);
  const others = new Set([...otherMounts].map(placeOf));
  const below = async function* (folder: TreeEntry, path: string): AsyncGenerator<{ path: string; entry: TreeEntry }> {
    if (!folder.folder) return;
    for await (const piece of tree.trees.pieces(folder.folder.node))
      for (const entry of piece) {
        const own = joinPath(path, entry.name);
        yield { path: own, entry };
        if (!others.has(joinPath(place, own))) yield* below(entry, own);
      }
  };
  if (top)
    for await (const { path, entry } of below(top, '')) {
      const item = { path: joinPath(place, path), kind: entry.kind, bytes: 0, remark: '' };
      if (!safeParts(path)) throw new EngineError('PATH_MISSING', path);
      if (entry.unread) {
        done({ ...item, action: 'failed', remark: 'not in this point: it could not be read when the point was taken' });
        continue;
      }
      const link = entry.hardId ? linked.get(entry.hardId) : undefined;
      const names = { owner: root.owners[String(entry.uid)] ?? '', group: root.groups[String(entry.gid)] ?? '' };
      const own = entry.kind === 'file' && link === undefined;
      const header = own && entry.ranges ? sparseTarHeader(path, entry, names) : tarHeader(path, entry, names, link);
      if (!header) continue;
      yield { data: header };
      if (own) {
        yield* contentOf(tree, entry, path);
        if (entry.hardId) linked.set(entry.hardId, path);
      }
      done({ ...item, action: 'write', bytes: own ? entry.size : 0 });
    }
  yield { data: tarEnd };
}

/** What a file holds beside holes, and the sum of all of it. */
async function* contentOf(tree: ReadableTree, entry: TreeEntry, path: string): AsyncGenerator<ArchivePart> {
  const hash = createHash('sha256');
  let at = 0;
  let held = 0;
  const holeTo = (end: number) => {
    for (const zeros of zerosBetween(at, end)) hash.update(zeros);
  };
  for await (const { offset, data } of filePieces(tree, entry)) {
    holeTo(offset);
    hash.update(data);
    at = offset + data.length;
    held += data.length;
    yield { data };
  }
  holeTo(entry.size);
  yield { data: tarPadding(held) };
  yield { sum: [path, hash.digest('hex')] };
}
