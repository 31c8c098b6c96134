import { joinPath } from '@lithodex/core';
import type { PutChunk, TreeEntry, TreeReader } from '@lithodex/engine';
import { BaseFolder } from '../base-folder';
import { OpenFolder } from '../open-folder';
import { between, type PlacedObject } from './in-tree-order';

const plain = { uid: 0, gid: 0, ctimeNs: 0n, inode: 0, size: 0 } as const;

/** An object as an entry of a tree. */
export const objectEntry = (name: string, mtime: number): TreeEntry => ({
  ...plain,
  name,
  kind: 'file',
  mode: 0o600,
  mtimeNs: BigInt(Math.trunc(mtime)) * 1_000_000n,
});

/** Buckets know no folders: what stands for one has nothing of its own. */
const folderEntry = (name: string): TreeEntry => ({ ...plain, name, kind: 'folder', mode: 0o700, mtimeNs: 0n });

/** What is done with an object that is not left out: returns its entry, or null where it is gone. */
export type TakeObject<T extends PlacedObject> = (
  object: T,
  name: string,
  path: string,
  before: TreeEntry | undefined,
) => Promise<TreeEntry | null>;

export interface TreeMaking<T extends PlacedObject> {
  readonly put: PutChunk;
  readonly trees: TreeReader;
  readonly base: TreeEntry | undefined;
  leftOut(path: string, isFolder: boolean): boolean;
  /** Does it beside others; waits while there is enough under way. */
  beside(work: () => Promise<void>): Promise<void>;
  /** Called now and then. */
  passed(): Promise<void>;
  /** The entry of an object that is as it was before, which has not to be read. */
  asBefore(object: T, before: TreeEntry): TreeEntry | undefined;
  readonly take: TakeObject<T>;
}

const lookEvery = 1000;

/** Makes the tree of objects, which come in its order. The tree is whole when all that was given to `beside` is done. */
export async function makeObjectTree<T extends PlacedObject>(
  making: TreeMaking<T>,
  objects: Iterable<T>,
): Promise<{ readonly top: () => TreeEntry }> {
  let top: TreeEntry | undefined;
  const root = new OpenFolder(making.put, folderEntry(''), '', new BaseFolder(making.trees, making.base), false, (entry) => (top = entry));
  const open: OpenFolder[] = [root];
  let done = 0;
  for (const object of objects) {
    const parts = object.place.split(between);
    const depth = parts.length - 1;
    let shared = 0;
    while (shared < depth && shared + 1 < open.length && open[shared + 1]!.self.name === parts[shared]) shared++;
    while (open.length > shared + 1) open.pop()!.close();
    for (let i = shared; i < depth; i++) open.push(await opened(making, open.at(-1)!, parts[i]!));
    const folder = open.at(-1)!;
    const name = parts[depth]!;
    const path = joinPath(folder.path, name);
    if (folder.leftOut || making.leftOut(path, false)) continue;
    const known = folder.base.of(name);
    const before = known instanceof Promise ? await known : known;
    const fill = folder.reserve();
    const same = before && making.asBefore(object, before);
    if (same) fill(same);
    else
      await making.beside(async () => {
        fill(await making.take(object, name, path, before));
      });
    if (++done % lookEvery === 0) await making.passed();
  }
  while (open.length) open.pop()!.close();
  return { top: () => top! };
}

async function opened<T extends PlacedObject>(making: TreeMaking<T>, above: OpenFolder, name: string): Promise<OpenFolder> {
  const path = joinPath(above.path, name);
  const leftOut = above.leftOut || making.leftOut(path, true);
  const before = leftOut ? undefined : await above.base.of(name);
  const fill = above.reserve();
  const base = new BaseFolder(making.trees, before?.kind === 'folder' ? before : undefined);
  return new OpenFolder(making.put, folderEntry(name), path, base, leftOut, (entry) => {
    // a folder that would hold nothing is none
    fill(entry.folder!.items > 0 ? entry : null);
  });
}
