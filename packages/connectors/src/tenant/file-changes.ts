import { formatBytes } from '@lithodex/core';
import type { TreeEntry } from '@lithodex/engine';
import type { ReadableTree } from '../readable-tree';
import { listFolder } from './capture-drive';
import { foldersBelow, foldersIn, type ChangesTold, type StoredItem } from './changes-told';
import { noneYet, type DavClient, type DavItem } from './dav-client';
import { folderState, itemFacts } from './item-facts';
import { storedBytes } from './stored-bytes';

/** Of files of the same size the bytes are compared, as far as these go: one, and all together. */
const [mostOfOne, mostOfAll] = [4 << 20, 64 << 20];

/** Files of a point beside those of now. `path`: the folder of the point that `top` is; `name`: the one at the top. */
export async function fileChanges(
  told: ChangesTold,
  client: DavClient,
  tree: ReadableTree,
  top: TreeEntry,
  path: string,
  name: string,
): Promise<void> {
  let left = mostOfAll;
  /** Whether a file of the same size holds the same; where that would be too much to read, it counts as another. */
  const holdsSame = async ({ entry }: StoredItem, there: DavItem): Promise<boolean> => {
    if (entry.size > mostOfOne || entry.size > left) return false;
    left -= entry.size;
    const { pieces } = await client.read(there.href);
    const parts: Buffer[] = [];
    let read = 0;
    for await (const piece of pieces) if ((read += piece.length) <= entry.size) parts.push(piece);
    return read === entry.size && Buffer.concat(parts).equals(await storedBytes({ tree, entry }));
  };
  for await (const { path: folder, entry, items } of foldersBelow(tree, top, path)) {
    told.goOn();
    told.looked += items.length;
    const href = folder === name ? client.root : (folderState(entry)?.path ?? '');
    if (href === '' || (!items.length && !told.whole)) continue;
    const listed = await listFolder(client, href).catch(noneYet);
    const now = new Map(listed.map((i) => [i.href, i]));
    for (const item of items) {
      const facts = itemFacts(item.entry);
      if (facts?.type !== 'file') continue;
      const there = now.get(facts.href);
      now.delete(facts.href);
      const { size } = item.entry;
      if (!there) told.tell(item, 'gone');
      else if (there.size !== size) told.tell(item, 'changed', [{ what: 'Size', was: formatBytes(size), now: formatBytes(there.size) }]);
      else if (there.etag !== facts.etag && !(await holdsSame(item, there)))
        told.tell(item, 'changed', [{ what: 'Content', was: '', now: '' }]);
    }
    if (told.whole)
      for (const { folder: isFolder, name: label, size, mtime } of now.values())
        if (!isFolder)
          told.tellAdded({
            type: 'file',
            label,
            about: '',
            folder: foldersIn(`${folder}/`).join(' / '),
            at: mtime > 0 ? mtime : null,
            size,
          });
  }
}
