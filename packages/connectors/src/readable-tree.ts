import { joinPath, safeParts } from '@lithodex/core';
import { EngineError, keyedHash, type ChunkReader, type TreeEntry, type TreeReader } from '@lithodex/engine';

import type { PointStore } from './point-store';

/** A tree whose folders and contents can be read: as a store holds one, or as it lies inside an item of one. */
export interface ReadableTree {
  readonly trees: TreeReader;
  readonly chunks: Pick<ChunkReader, 'read'>;
  /** Whether bytes are those of a chunk. */
  isChunk(name: Buffer, data: Buffer): boolean | Promise<boolean>;
}

/** The tree of the points of a store. */
export function treeOf(store: PointStore): ReadableTree {
  return {
    trees: store.trees,
    chunks: store.reader,
    isChunk: (name, data) => keyedHash(store.keys.nameKey, data).equals(name),
  };
}

/** An item and everything below it, folders first, with paths (byte strings) that begin with `path`. */
export async function* everythingBelow(
  tree: ReadableTree,
  entry: TreeEntry,
  path: string,
): AsyncGenerator<{ readonly path: string; readonly entry: TreeEntry }> {
  if (path !== '') yield { path, entry };
  if (!entry.folder) return;
  for await (const piece of tree.trees.pieces(entry.folder.node))
    for (const child of piece) yield* everythingBelow(tree, child, joinPath(path, child.name));
}

/** An item of a point, stored or inside an item that is. */
export interface FoundItem {
  readonly tree: ReadableTree;
  readonly entry: TreeEntry;
  /** Entries of the folders above it in its tree, outermost first, without the top. */
  readonly parents: readonly TreeEntry[];
  /** Whether the tree is that of the point itself. */
  readonly stored: boolean;
}

/** An item and the folders above it. Throws PATH_MISSING. */
export async function findWithParents(trees: TreeReader, top: TreeEntry, path: string): Promise<Pick<FoundItem, 'entry' | 'parents'>> {
  const parents: TreeEntry[] = [];
  let at = top;
  const parts = safeParts(path);
  if (!parts) throw new EngineError('PATH_MISSING', path);
  for (const [i, part] of parts.entries()) {
    at = await trees.find(at, part).catch((error: unknown) => {
      throw error instanceof EngineError && error.code === 'PATH_MISSING' ? new EngineError('PATH_MISSING', path) : error;
    });
    if (i < parts.length - 1) parents.push(at);
  }
  return { entry: at, parents };
}
