import { countOf, formatCount, pathBelow } from '@lithodex/core';
import { EngineError, type Store } from '@lithodex/engine';
import type { FilesTo } from '@lithodex/kinds';
import type { RestoreContext, RestoreOutcome, RestorePick } from '../connector';
import { dropPools, poolToPlace } from '../pools';
import { Placer, threadsOf } from './placer';
import { Restorer } from './restore';

const actionWords: Partial<Record<string, string>> = {
  write: 'restored',
  merge: 'folders merged',
  leave: 'left as they were',
  same: 'already the same',
  replace: 'replaced',
  beside: 'put beside',
};

/** Whether an item goes to the very place it was taken from, below the folder its point is of. */
const isInPlace = ({ base, to, path }: Pick<RestorePick, 'base' | 'to' | 'path'>, folder: string) =>
  pathBelow(base, to) === pathBelow(folder, path);

/** A tree that items are read from, with what writes them. */
interface Reading {
  readonly placer: Placer;
  readonly restorers: Map<string, Restorer>;
  /** Where its files have threads of their own. */
  readonly store: Store | undefined;
}

/** Brings files and folders back, one pick after the other; a point may stand on several targets, and an item lie inside another. */
export async function restoreFiles(ctx: RestoreContext, picks: readonly RestorePick[], to: FilesTo): Promise<RestoreOutcome> {
  ctx.phase(ctx.trial ? 'trying' : 'restoring');
  const actions = new Map<string, number>();
  const readings = new Map<unknown, Reading>();
  let items = 0;
  let whole = false;
  try {
    for (const pick of picks) {
      if (ctx.stopped()) throw new EngineError('STOPPED');
      const { kept, root } = await pick.open();
      const { tree, entry, parents, stored } = await pick.find();
      const cameFrom = stored && isInPlace(pick, root.workload.path) ? root.workload.path : undefined;
      const store = stored ? kept : undefined;
      const threads = store && threadsOf(store, poolToPlace(store));
      const readFrom = store?.header.targetId ?? tree;
      const reading: Reading = readings.get(readFrom) ?? {
        placer: new Placer({ tree, threads, onBytes: ctx.moved, stopped: ctx.stopped }),
        restorers: new Map(),
        store,
      };
      readings.set(readFrom, reading);
      const key = JSON.stringify([pick.base, cameFrom]);
      const restorer =
        reading.restorers.get(key) ??
        new Restorer({
          base: pick.base,
          limits: ctx.limits,
          cameFrom,
          rule: to.rule,
          stamp: to.stamp,
          taskId: ctx.taskId,
          trial: ctx.trial,
          tree,
          placer: reading.placer,
          onItem: (item) => {
            items++;
            actions.set(item.action, (actions.get(item.action) ?? 0) + 1);
            ctx.done(item);
          },
          drain: ctx.drain,
          stopped: ctx.stopped,
        });
      reading.restorers.set(key, restorer);
      await restorer.item(entry, pick.to, pick.path === pick.to ? parents : []);
    }
    whole = true;
  } finally {
    for (const { placer, restorers, store } of readings.values()) {
      for (const restorer of restorers.values()) restorer.close();
      placer.close();
      if (store && (!whole || ctx.stopped())) await dropPools(store);
    }
  }
  const told = [...actions].map(([action, n]) => `${formatCount(n)} ${actionWords[action] ?? action}`).join(', ');
  return { items, summary: `${countOf(items, 'item')} ${ctx.trial ? 'looked at, nothing written' : 'done, every sum checked'}: ${told}` };
}
