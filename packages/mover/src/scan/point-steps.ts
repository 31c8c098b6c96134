import { changesInside, disksIn, treeOf, type FoundItem, type OpenPoint } from '@lithodex/connectors';
import { joinPath } from '@lithodex/core';
import { diffTrees, sameContent, type TreeChange } from '@lithodex/engine';
import { VolumeError } from '@lithodex/volumes';

/** What is to be done to know what is in a point. Paths are byte strings. */
export type PointStep =
  /** A file whose content is new. */
  | { readonly do: 'look'; readonly path: string; readonly item: Pick<FoundItem, 'tree' | 'entry'>; readonly inside: boolean }
  /** An item is not there any more or is otherwise; `below`: so is all that lies below it, which is not told of one by one. */
  | { readonly do: 'forget'; readonly path: string; readonly below: boolean }
  /** Something that can't be looked into. */
  | { readonly do: 'note'; readonly path: string; readonly why: string };

/** What leads from a point that was looked into to a later one of the same store; everything where there is none before. Disks of machines are looked into file by file. Throws what a store fails with. */
export async function* pointSteps(before: OpenPoint | undefined, now: OpenPoint): AsyncGenerator<PointStep> {
  const disks = new Set(disksIn(now));
  const tree = treeOf(now.store);
  for await (const change of diffTrees(now.store.trees, before?.top, now.top)) {
    const path = joinPath(change.folder, change.entry.name);
    if (!disks.has(path)) yield* stepsOf(change, path, tree, false);
  }
  if (disks.size || (before && disksIn(before).length)) yield* insideSteps(before, now, tree);
}

function* stepsOf(change: TreeChange, path: string, tree: FoundItem['tree'], inside: boolean): Generator<PointStep> {
  const { entry } = change;
  if (change.change === 'unseen') return;
  if (change.change === 'removed') {
    yield { do: 'forget', path, below: false };
    return;
  }
  if (change.change === 'changed') {
    if (!inside && entry.kind === 'file' && sameContent(entry, change.before) && !entry.unread === !change.before.unread) return;
    if (entry.kind !== 'folder' || change.before.kind !== 'folder') yield { do: 'forget', path, below: false };
  }
  if (entry.unread) yield { do: 'note', path, why: 'it could not be read when the point was taken' };
  else if (entry.kind === 'file' && entry.size > 0) yield { do: 'look', path, item: { tree, entry }, inside };
}

async function* insideSteps(before: OpenPoint | undefined, now: OpenPoint, stored: FoundItem['tree']): AsyncGenerator<PointStep> {
  let tree: FoundItem['tree'] | undefined;
  try {
    for await (const change of changesInside(before, now)) {
      if (change.change === 'opened') {
        ({ tree } = change);
        // what no reader of ours knows is looked at from end to end at least
        if ((await change.tree.rows(change.tree.top)).some((r) => r.item.unread !== undefined)) yield* wholeDisk(now, stored, change.disk);
      } else if (change.change === 'closed') yield { do: 'forget', path: change.disk, below: true };
      else if (tree) yield* stepsOf(change, joinPath(change.folder, change.entry.name), tree, true);
    }
  } catch (error) {
    if (!(error instanceof VolumeError)) throw error;
    for (const path of disksIn(now)) {
      yield* wholeDisk(now, stored, path);
      yield { do: 'note', path, why: `what is inside can't be read: ${error.message}` };
    }
  }
}

async function* wholeDisk(now: OpenPoint, tree: FoundItem['tree'], path: string): AsyncGenerator<PointStep> {
  yield { do: 'forget', path, below: false };
  yield { do: 'look', path, item: { tree, entry: await now.store.trees.find(now.top, path) }, inside: false };
}
