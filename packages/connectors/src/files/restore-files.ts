import { countOf, formatCount, joinPath, safeParts } from '@lithodex/core';
import { EngineError, type Store, type TreeEntry } from '@lithodex/engine';
import type { FilesTo } from '@lithodex/kinds';
import type { RestoreContext, RestoreOutcome, RestorePick } from '../connector';
import { dropPools, poolToPlace } from '../pools';
import { Placer } from './placer';
import { Restorer } from './restore';

const actionWords: Partial<Record<string, string>> = {
  write: 'restored',
  merge: 'folders merged',
  leave: 'left as they were',
  same: 'already the same',
  replace: 'replaced',
  beside: 'put beside',
};

/** Brings files and folders back, one pick after the other; a point may stand on several targets. */
export async function restoreFiles(ctx: RestoreContext, picks: readonly RestorePick[], to: FilesTo): Promise<RestoreOutcome> {
  ctx.phase(ctx.trial ? 'trying' : 'restoring');
  const actions = new Map<string, number>();
  const restorers = new Map<string, Restorer>();
  const placers = new Map<string, { readonly placer: Placer; readonly store: Store }>();
  let items = 0;
  let whole = false;
  try {
    for (const pick of picks) {
      if (ctx.stopped()) throw new EngineError('STOPPED');
      const { store, root, top } = await pick.open();
      const cameFrom = root.workload.path;
      const placer =
        placers.get(store.header.targetId)?.placer ??
        new Placer({ trees: store.trees, chunks: store.reader, pool: poolToPlace(store), onBytes: ctx.moved, stopped: ctx.stopped });
      placers.set(store.header.targetId, { placer, store });
      const key = JSON.stringify([store.header.targetId, pick.base, cameFrom]);
      const restorer =
        restorers.get(key) ??
        new Restorer({
          base: pick.base,
          limits: ctx.limits,
          cameFrom,
          rule: to.rule,
          stamp: to.stamp,
          taskId: ctx.taskId,
          trial: ctx.trial,
          trees: store.trees,
          keys: store.keys,
          placer,
          onItem: (item) => {
            items++;
            actions.set(item.action, (actions.get(item.action) ?? 0) + 1);
            ctx.done(item);
          },
          drain: ctx.drain,
          stopped: ctx.stopped,
        });
      restorers.set(key, restorer);
      const entry = await store.trees.find(top, pick.path);
      await restorer.item(entry, pick.to, await parentsOf(store, top, pick.path, pick.to));
    }
    whole = true;
  } finally {
    for (const restorer of restorers.values()) restorer.close();
    for (const { placer } of placers.values()) placer.close();
    if (!whole || ctx.stopped()) for (const { store } of placers.values()) await dropPools(store);
  }
  const told = [...actions].map(([action, n]) => `${formatCount(n)} ${actionWords[action] ?? action}`).join(', ');
  return { items, summary: `${countOf(items, 'item')} ${ctx.trial ? 'looked at, nothing written' : 'done, every sum checked'}: ${told}` };
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
