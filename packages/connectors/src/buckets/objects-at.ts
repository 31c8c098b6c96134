import { isOlder, keyOfOlder, keyOfPath } from '@lithodex/core';
import { EngineError, type TreeEntry } from '@lithodex/engine';
import type { OpenPoint } from '../connector';
import { everythingBelow, findWithParents, treeOf, type ReadableTree } from '../readable-tree';
import { objectFacts } from './object-facts';
import { olderBelow, olderParts } from './older-versions';

/** An object on its way back. */
export interface ObjectBack {
  readonly key: string;
  /** Byte string in the point. */
  readonly path: string;
  readonly entry: TreeEntry;
  readonly tree: ReadableTree;
}

interface Picked {
  readonly tree: ReadableTree;
  readonly entry: TreeEntry;
  readonly path: string;
}

/** The objects of a pick as they are in the point; of older versions only those that are picked themselves. */
export async function* objectsOf({ tree, entry, path }: Picked): AsyncGenerator<ObjectBack> {
  const ofOlder = isOlder(path);
  for await (const item of everythingBelow(tree, entry, path)) {
    if (item.entry.kind !== 'file' || objectFacts(item.entry)?.marker) continue;
    if (isOlder(item.path) !== ofOlder) continue;
    yield { ...item, key: ofOlder ? keyOfOlder(item.path) : keyOfPath(item.path), tree };
  }
}

/** The objects of a pick as they were at the end of a second, by the versions that the point holds. */
export async function* objectsAt(point: OpenPoint, pick: Picked, at: number): AsyncGenerator<ObjectBack> {
  const found = new Map<string, ObjectBack[]>();
  const take = (object: ObjectBack) => {
    if (Number(object.entry.mtimeNs / 1_000_000n) > at) return;
    const own = found.get(object.key) ?? [];
    own.push(object);
    found.set(object.key, own);
  };
  for await (const object of objectsOf(pick)) take(object);
  const tree = treeOf(point.store);
  const isFolder = pick.entry.kind === 'folder';
  const key = pick.path === '' ? '' : keyOfPath(pick.path);
  const place = isFolder ? olderBelow(key === '' ? '' : `${key}/`) : olderParts(key).join('/');
  const older = await entryAt(tree, point.top, place);
  if (older)
    for await (const item of everythingBelow(tree, older, place))
      if (item.entry.kind === 'file') take({ ...item, key: keyOfOlder(item.path), tree });
  for (const versions of found.values()) {
    const last = newestOf(versions);
    if (!objectFacts(last.entry)?.marker) yield last;
  }
}

/** The newest of the versions of a key; of those of one instant the one that took the place of the others. */
function newestOf(versions: readonly ObjectBack[]): ObjectBack {
  const newest = versions.reduce((max, v) => (v.entry.mtimeNs > max ? v.entry.mtimeNs : max), versions[0]!.entry.mtimeNs);
  const last = versions.filter((v) => v.entry.mtimeNs === newest);
  const ids = new Set(last.map((v) => objectFacts(v.entry)?.version));
  return last.find((v) => !ids.has(objectFacts(v.entry)?.newer)) ?? last[0]!;
}

async function entryAt(tree: ReadableTree, top: TreeEntry, path: string): Promise<TreeEntry | undefined> {
  try {
    return (await findWithParents(tree.trees, top, path)).entry;
  } catch (error) {
    if (error instanceof EngineError && error.code === 'PATH_MISSING') return undefined;
    throw error;
  }
}
