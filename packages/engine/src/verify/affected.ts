import { joinPath } from '@lithodex/core';
import { EngineError } from '../errors';
import { NameSet } from '../index/name-set';
import type { Store } from '../store/store';
import { topEntry } from '../tree/tree-reader';
import type { TreeEntry } from '../tree/tree-entry';

/** What a point has lost: an item, or everything below a folder whose list can not be read. */
export interface LostItem {
  readonly seriesId: string;
  readonly taskId: string;
  /** Byte string below the root. */
  readonly path: string;
  readonly whole: 'item' | 'folder' | 'point';
}

/**
 * Points and items that need a chunk of `lost` or one that no index knows. A folder seen whole in one point is not walked again in another, so an item is told for the
 * first point that holds it. Throws STOPPED.
 */
export async function* affected(store: Store, lost: NameSet, stopped: () => boolean): AsyncGenerator<LostItem> {
  const sound = new NameSet();
  const gone = (name: Buffer) => lost.has(name) || store.index.chunks.find(name) === undefined;
  const anyGone = (names: Buffer) => {
    for (let at = 0; at < names.length; at += 32) if (gone(names.subarray(at, at + 32))) return true;
    return false;
  };

  async function contentLost({ content }: TreeEntry): Promise<boolean> {
    if (!content) return false;
    if ('names' in content) return anyGone(content.names);
    if (anyGone(content.lists)) return true;
    for await (const part of store.trees.contentParts(content)) if (anyGone(part.names)) return true;
    return false;
  }

  async function* below(entry: TreeEntry, path: string): AsyncGenerator<Pick<LostItem, 'path' | 'whole'>> {
    if (stopped()) throw new EngineError('STOPPED');
    if (await contentLost(entry)) yield { path, whole: 'item' };
    if (!entry.folder || !sound.add(entry.folder.node)) return;
    try {
      for await (const piece of store.trees.pieces(entry.folder.node))
        for (const child of piece) if (child.content || child.folder) yield* below(child, joinPath(path, child.name));
    } catch (error) {
      if (!(error instanceof EngineError) || error.code === 'STOPPED') throw error;
      yield { path, whole: 'folder' };
    }
  }

  for (const point of await store.listPoints()) {
    const { seriesId, taskId } = point;
    let root;
    try {
      root = await store.listedRoot(point);
    } catch (error) {
      if (!(error instanceof EngineError)) throw error;
      yield { seriesId, taskId, path: '', whole: 'point' };
      continue;
    }
    if (root) for await (const item of below(topEntry(root), '')) yield { seriesId, taskId, ...item };
  }
}
