import { HostLimits } from '@lithodex/connectors';
import { DiskFolder, EngineError, topEntry, type Store, type TreeEntry } from '@lithodex/engine';
import type { FilesFrom } from '@lithodex/kinds';
import type { PointHooks, PointRequest } from '@lithodex/mover';

/** A folder tree, read with all rights of the process. */
export const folderTree = (folder: string, more: Partial<FilesFrom> = {}): FilesFrom => ({
  kind: 'files',
  folder,
  readAs: null,
  crossFileSystems: false,
  wholeServer: false,
  targetFolders: [],
  ...more,
});

/** A point of a folder tree, of a series of its own. */
export const pointRequest = (folder: string, taskId: string, previous: string | null, more: Partial<PointRequest> = {}): PointRequest => ({
  taskId,
  seriesId: 's1',
  workload: { id: 'w1', name: 'quay-1', source: 'quay-1', path: folder },
  kind: 'incremental',
  previous,
  moment: 1000,
  include: [],
  exclude: [],
  from: folderTree(folder),
  ...more,
});

/** A point is taken without a word. */
export const quietly: PointHooks = {
  limits: HostLimits.none,
  alive: () => Promise.resolve([]),
  now: () => 0,
  warn: () => undefined,
  note: () => undefined,
  progress: () => undefined,
  stopped: () => false,
};

/** A disk folder whose n-th change fails. */
export class FailingFolder extends DiskFolder {
  changes = 0;
  failAt = Infinity;

  private count(): void {
    if (++this.changes === this.failAt) throw new EngineError('TARGET_REFUSED', 'as ordered');
  }

  override async put(name: string, data: Uint8Array): Promise<void> {
    this.count();
    return super.put(name, data);
  }

  override async remove(name: string): Promise<void> {
    this.count();
    return super.remove(name);
  }
}

/** Reads every byte of every point of a store and returns their tasks, sorted. Throws when anything is missing. */
export async function readAllPoints(store: Store): Promise<string[]> {
  const points: string[] = [];
  const read = async (entry: TreeEntry): Promise<void> => {
    for await (const { names } of store.trees.contentParts(entry.content))
      for (let at = 0; at < names.length; at += 32) await store.reader.read(names.subarray(at, at + 32));
    if (entry.folder) for await (const piece of store.trees.pieces(entry.folder.node)) for (const child of piece) await read(child);
  };
  for (const { seriesId, taskId } of await store.listPoints()) {
    const found = await store.root(seriesId, taskId);
    if (!found) continue;
    await read(topEntry(found.root));
    points.push(taskId);
  }
  return points.sort();
}
