import type { PointRef, RestoreWork } from '@lithodex/contract';
import { countOf, formatCount, joinPath, safeParts } from '@lithodex/core';
import { Placer, Restorer, type RestoredItem } from '@lithodex/connectors';
import { EngineError, topEntry, type Store, type TreeEntry } from '@lithodex/engine';
import { placePools } from './pools';
import { noCounts, type TaskContext, type TaskResult } from './task-context';

const batchSize = 500;
const actionWords: Partial<Record<string, string>> = {
  write: 'restored',
  merge: 'folders merged',
  leave: 'left as they were',
  same: 'already the same',
  replace: 'replaced',
  beside: 'put beside',
};

/** Brings picked items back and reports every one of them. */
export async function runRestore(ctx: TaskContext, work: RestoreWork): Promise<TaskResult> {
  ctx.phase(work.trial ? 'trying' : 'restoring');
  const counts = { ...noCounts };
  const report = new ItemReport(ctx, counts);
  const actions = new Map<string, number>();
  let moved = 0;
  const tell = () => {
    ctx.progress({
      phase: work.trial ? 'trying' : 'restoring',
      items: counts.items,
      bytes: counts.bytes,
      read: moved,
      fresh: 0,
      stored: 0,
      expectedItems: work.expected.items,
      expectedBytes: work.expected.bytes,
    });
  };
  const elsewhere = (name: string) => {
    ctx.log({
      level: 'warning',
      code: 'READ_ELSEWHERE',
      path: '',
      message: `what is missing or damaged on the first target was read from ${name}`,
    });
  };
  const restorers = new Map<string, Restorer>();
  const placers = new Map<string, Placer>();
  // each point is opened once, however many picks are of it: opening asks the target for what is new
  const opened = new Map<string, { store: Store; top: TreeEntry; cameFrom: string }>();
  const open = async (point: PointRef) => {
    const store = await ctx.stores.ofPoint(point, elsewhere);
    const found = { store, ...(await topOf(store, point)) };
    opened.set(point.taskId, found);
    return found;
  };
  let whole = false;
  try {
    for (const pick of work.picks) {
      if (ctx.stopped()) throw new EngineError('STOPPED');
      const { store, top, cameFrom } = opened.get(pick.point.taskId) ?? (await open(pick.point));
      const placer =
        placers.get(store.header.targetId) ??
        new Placer({
          trees: store.trees,
          chunks: store.reader,
          pool: placePools.of(store),
          onBytes: (n) => {
            moved += n;
          },
          stopped: ctx.stopped,
        });
      placers.set(store.header.targetId, placer);
      const key = JSON.stringify([store.header.targetId, pick.base, cameFrom]);
      const restorer =
        restorers.get(key) ??
        new Restorer({
          base: pick.base,
          limits: ctx.limits,
          cameFrom,
          rule: work.rule,
          stamp: work.stamp,
          taskId: ctx.task.id,
          trial: work.trial,
          trees: store.trees,
          keys: store.keys,
          placer,
          onItem: (item) => {
            counts.items++;
            counts.bytes += item.action === 'failed' ? 0 : item.bytes;
            actions.set(item.action, (actions.get(item.action) ?? 0) + 1);
            report.add(item);
            tell();
          },
          drain: () => report.flushIfFull(),
          stopped: ctx.stopped,
        });
      restorers.set(key, restorer);
      const entry = await store.trees.find(top, pick.path);
      await restorer.item(entry, pick.to, await parentsOf(store, top, pick.path, pick.to));
    }
    await report.flush();
    whole = true;
  } finally {
    for (const restorer of restorers.values()) restorer.close();
    for (const placer of placers.values()) placer.close();
    if (!whole || ctx.stopped()) for (const { store } of opened.values()) await placePools.drop(store);
  }
  counts.read = moved;
  const summary = [...actions].map(([action, n]) => `${formatCount(n)} ${actionWords[action] ?? action}`).join(', ');
  ctx.log({
    level: 'note',
    code: 'SUMMARY',
    path: '',
    message: `${countOf(counts.items, 'item')} ${work.trial ? 'looked at, nothing written' : 'done, every sum checked'}: ${summary}`,
  });
  return { counts, bytes: moved };
}

/** The top folder of a point, and where it was taken. */
async function topOf(store: Store, point: { seriesId: string; taskId: string }): Promise<{ top: TreeEntry; cameFrom: string }> {
  const found = await store.root(point.seriesId, point.taskId);
  if (!found) throw new EngineError('OBJECT_MISSING', 'the root of the point');
  return { top: topEntry(found.root), cameFrom: found.root.workload.path };
}

/** Entries of the folders above an item, where it keeps its path. */
async function parentsOf(store: Store, top: TreeEntry, path: string, to: string): Promise<TreeEntry[]> {
  if (path !== to) return [];
  const parents: TreeEntry[] = [];
  let at = '';
  for (const part of (safeParts(path) ?? []).slice(0, -1)) {
    at = joinPath(at, part);
    parents.push(await store.trees.find(top, at));
  }
  return parents;
}

/** Gathers restored items into batches for the server. */
class ItemReport {
  private waiting: RestoredItem[] = [];
  private seq = 0;

  constructor(
    private readonly ctx: TaskContext,
    private readonly counts: { warnings: number; failed: number; files: number },
  ) {}

  add(item: RestoredItem): void {
    if (item.action === 'failed') this.counts.failed++;
    else if (item.remark && item.action !== 'beside') this.counts.warnings++;
    if (item.kind !== 'folder') this.counts.files++;
    this.waiting.push(item);
  }

  flushIfFull(): Promise<void> | undefined {
    return this.waiting.length >= batchSize ? this.flush() : undefined;
  }

  async flush(): Promise<void> {
    while (this.waiting.length) {
      const items = this.waiting.splice(0, batchSize * 4);
      await this.ctx.api.insist(
        'sendRestored',
        { attempt: this.ctx.task.attempt, seq: this.seq++, items },
        this.ctx.task.id,
        this.ctx.stopped,
      );
    }
  }
}
