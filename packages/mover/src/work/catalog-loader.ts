import type { ItemChange, PointTotals } from '@lithodex/contract';
import { diffTrees, sameContent, type Store, type TreeChange, type TreeEntry } from '@lithodex/engine';
import { factsOf } from './item-facts';
import type { TaskContext } from './task-context';

const batchSize = 5000;

export type Changes = PointTotals['changes'];

/** Sends the items of points to the catalog, as differences to the point before; batches are numbered through the whole task. */
export class CatalogLoader {
  private seq = 0;

  constructor(
    private readonly ctx: TaskContext,
    private readonly store: Store,
  ) {}

  /** Loads one point and counts what changed in it. `files`: those of the point. */
  async load(before: TreeEntry | undefined, top: TreeEntry, files: number): Promise<Changes> {
    const counts = { before: files, added: 0, changed: 0, removed: 0, random: 0, turnedRandom: 0 };
    const removed: string[] = [];
    const added = new Set<string>();
    let batch: ItemChange[] = [];
    let underWay: Promise<unknown> = Promise.resolve();
    // one is loaded while the next is gathered
    const send = async () => {
      const { task, api, stopped } = this.ctx;
      await underWay;
      underWay = api.insist('sendItems', { attempt: task.attempt, seq: this.seq++, changes: batch }, task.id, stopped);
      // told where it is waited for
      underWay.catch(() => undefined);
      batch = [];
    };
    for await (const change of diffTrees(this.store.trees, before, top)) {
      const { entry, folder } = change;
      const opens = change.change === 'added' || change.change === 'changed';
      batch.push({ change: change.change, folder, name: entry.name, facts: opens ? factsOf(entry) : null });
      count(change, counts, removed, added);
      if (batch.length >= batchSize) await send();
    }
    if (batch.length || this.seq === 0) await send();
    await underWay;
    const had = before ? counts.before - counts.added + counts.removed : 0;
    return { of: 'files', ...counts, before: Math.max(0, had), renamed: removed.filter((path) => hasTwin(path, added)).length };
  }
}

function count(change: TreeChange, counts: Omit<Changes, 'renamed' | 'of'>, removed: string[], added: Set<string>): void {
  const { entry, folder } = change;
  if (entry.kind !== 'file' || change.change === 'unseen') return;
  const path = `${folder}/${entry.name}`;
  if (change.change === 'removed') {
    counts.removed++;
    removed.push(path);
    return;
  }
  if (change.change === 'added') {
    counts.added++;
    added.add(path);
    const dot = path.lastIndexOf('.');
    if (dot > path.lastIndexOf('/')) added.add(`twin ${path.slice(0, dot)}`);
    if (entry.random) counts.random++;
  } else if (change.change === 'changed' && !sameContent(change.before, entry)) {
    counts.changed++;
    if (entry.random) counts.random++;
    if (entry.random && !change.before.random) counts.turnedRandom++;
  }
}

/** A file was removed while one of the same name plus an ending appeared. */
function hasTwin(path: string, added: ReadonlySet<string>): boolean {
  return added.has(`twin ${path}`);
}
