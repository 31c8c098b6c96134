import { EngineError } from '../errors';
import { packName } from '../format/pack';
import { NameSet } from '../index/name-set';
import type { Store } from '../store/store';
import type { TreeEntry } from '../tree/tree-entry';

/**
 * Names of the packs that hold a point on this target. Folders are read from elsewhere where the target can't give them. Throws STOPPED, CHUNK_MISSING, and what the
 * target throws.
 */
export async function packsOfPoint(store: Store, top: TreeEntry, stopped: () => boolean): Promise<Set<string>> {
  const packs = new Set<string>();
  const seen = new NameSet();
  const need = (name: Buffer) => {
    packs.add(packName(store.reader.locate(name).packId));
  };
  const visit = async ({ content, folder }: TreeEntry): Promise<void> => {
    if (stopped()) throw new EngineError('STOPPED');
    if (content && 'lists' in content) for (let at = 0; at < content.lists.length; at += 32) need(content.lists.subarray(at, at + 32));
    if (content)
      for await (const { names } of store.trees.contentParts(content))
        for (let at = 0; at < names.length; at += 32) need(names.subarray(at, at + 32));
    if (!folder || !seen.add(folder.node)) return;
    for await (const piece of store.trees.nodes(folder.node)) {
      need(piece.node);
      for (const child of piece.entries) if (child.content ?? child.folder) await visit(child);
    }
  };
  await visit(top);
  return packs;
}
