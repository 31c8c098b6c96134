import { joinPath } from '@lithodex/core';
import type { TreeEntry } from './tree-entry';
import type { TreeReader } from './tree-reader';

/** One difference between two trees. `unseen`: the newer point could not look there, so nothing is known about it. */
export type TreeChange =
  | { readonly change: 'added'; readonly folder: string; readonly entry: TreeEntry }
  | { readonly change: 'changed'; readonly folder: string; readonly entry: TreeEntry; readonly before: TreeEntry }
  | { readonly change: 'removed' | 'unseen'; readonly folder: string; readonly entry: TreeEntry };

class Walk {
  private piece: TreeEntry[] = [];
  private at = 0;
  constructor(private readonly source: AsyncGenerator<TreeEntry[]> | undefined) {}

  async peek(): Promise<TreeEntry | undefined> {
    while (this.at >= this.piece.length) {
      const next = await this.source?.next();
      if (!next || next.done) return undefined;
      this.piece = next.value;
      this.at = 0;
    }
    return this.piece[this.at];
  }

  skip(): void {
    this.at++;
  }
}

/** How two trees are told apart. */
export interface Comparing {
  readonly older: TreeReader;
  readonly newer: TreeReader;
  /** Whether two items are the same in every property. */
  readonly isSame: (a: TreeEntry, b: TreeEntry) => boolean;
  /** Whether two folders that are read by the same name hold the same. */
  readonly skipsSame: boolean;
}

/** Differences from `older` (absent: everything is new) to `newer`, folder by folder; equal folders are skipped without being read. */
export function diffTrees(trees: TreeReader, older: TreeEntry | undefined, newer: TreeEntry, folder = ''): AsyncGenerator<TreeChange> {
  return compareTrees({ older: trees, newer: trees, isSame: sameEntry, skipsSame: true }, older, newer, folder);
}

/** Differences between trees that are read from two places. */
export async function* compareTrees(
  by: Comparing,
  older: TreeEntry | undefined,
  newer: TreeEntry,
  folder: string,
): AsyncGenerator<TreeChange> {
  if (newer.unread) {
    if (older?.folder) yield* gone(by.older, older, folder, 'unseen');
    return;
  }
  if (by.skipsSame && older?.folder && newer.folder && older.folder.node.equals(newer.folder.node)) return;
  const left = new Walk(older?.folder && by.older.pieces(older.folder.node));
  const right = new Walk(newer.folder && by.newer.pieces(newer.folder.node));
  for (;;) {
    const a = await left.peek();
    const b = await right.peek();
    if (!a && !b) return;
    if (a && (!b || a.name < b.name)) {
      left.skip();
      yield { change: 'removed', folder, entry: a };
      if (a.kind === 'folder') yield* gone(by.older, a, joinPath(folder, a.name), 'removed');
      continue;
    }
    if (!b) return;
    right.skip();
    const path = joinPath(folder, b.name);
    if (a?.name !== b.name) {
      yield { change: 'added', folder, entry: b };
      if (b.kind === 'folder') yield* compareTrees(by, undefined, b, path);
      continue;
    }
    left.skip();
    if (!by.isSame(a, b)) yield { change: 'changed', folder, entry: b, before: a };
    if (a.kind === 'folder' && b.kind === 'folder') yield* compareTrees(by, a, b, path);
    else if (a.kind === 'folder') yield* gone(by.older, a, path, 'removed');
    else if (b.kind === 'folder') yield* compareTrees(by, undefined, b, path);
  }
}

async function* gone(trees: TreeReader, entry: TreeEntry, path: string, change: 'removed' | 'unseen'): AsyncGenerator<TreeChange> {
  if (!entry.folder) return;
  for await (const piece of trees.pieces(entry.folder.node)) {
    for (const child of piece) {
      yield { change, folder: path, entry: child };
      if (child.kind === 'folder') yield* gone(trees, child, joinPath(path, child.name), change);
    }
  }
}

const contentKey = (e: TreeEntry) => (!e.content ? '' : ('lists' in e.content ? e.content.lists : e.content.names).toString('latin1'));

/** Same content, whatever the metadata. */
export function sameContent(a: TreeEntry, b: TreeEntry): boolean {
  return (
    a.kind === b.kind && a.size === b.size && a.linkTarget === b.linkTarget && a.device === b.device && contentKey(a) === contentKey(b)
  );
}

/** Same in every property that a restore brings back. */
export function sameEntry(a: TreeEntry, b: TreeEntry): boolean {
  return (
    sameContent(a, b) &&
    a.mode === b.mode &&
    a.uid === b.uid &&
    a.gid === b.gid &&
    a.mtimeNs === b.mtimeNs &&
    !a.unread === !b.unread &&
    a.hardId === b.hardId &&
    (a.attributes?.length ?? 0) === (b.attributes?.length ?? 0) &&
    (a.attributes ?? []).every(([key, value], i) => b.attributes![i]![0] === key && value.equals(b.attributes![i]![1])) &&
    (a.folder === undefined || b.folder === undefined || a.folder.node.equals(b.folder.node))
  );
}
