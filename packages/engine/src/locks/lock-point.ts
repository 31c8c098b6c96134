import { packName } from '../format/pack';
import { headerNames } from '../store/store-header';
import type { Store } from '../store/store';
import { Marker } from '../prune/mark';
import { topEntry } from '../tree/tree-reader';
import type { TreeEntry } from '../tree/tree-entry';

/** Locks of packs end on whole weeks, so that packs many points share are locked anew once a week. */
const grainMs = 7 * 86_400_000;
const atOnce = 4;

/**
 * Locks everything a point needs until an instant (ms): the packs that hold its chunks, and the header. Done before its root is created with the same lock, so that a locked
 * point never needs what can be removed. Index segments are not locked; they can be made anew from the packs. Returns how many packs had to be locked. Throws STOPPED, and
 * TARGET_REFUSED where the target has no locks.
 */
export async function lockPoint(store: Store, top: TreeEntry, until: number, stopped: () => boolean): Promise<number> {
  const packs = new Set<number>();
  const marker = new Marker(store, stopped, (name) => {
    const place = store.index.chunks.find(name);
    if (place) packs.add(place.pack);
  });
  await marker.walk(top);
  await store.locks.refresh();
  const ids = [...packs].map((pack) => store.index.packs[pack]!.packId);
  const due = ids.filter((id) => store.locks.of(id.toString('hex')) < until);
  const end = Math.ceil(until / grainMs) * grainMs;
  const waiting = [...headerNames, ...due.map(packName)];
  const lockNext = async () => {
    for (let name = waiting.shift(); name !== undefined; name = waiting.shift()) await store.target.lock(name, end);
  };
  await Promise.all(Array.from({ length: atOnce }, lockNext));
  if (due.length)
    await store.locks.add(
      due.map((id) => id.toString('hex')),
      end,
    );
  return due.length;
}

/** Locks what a point needs where a lock is wanted that has not ended yet; gives what its root says of it. */
export async function lockWhere(
  store: Store,
  top: TreeEntry,
  until: number | null | undefined,
  stopped: () => boolean,
): Promise<{ lockedUntil?: number }> {
  if (!until || until <= Date.now()) return {};
  await lockPoint(store, top, until, stopped);
  return { lockedUntil: until };
}

/** Locks again what locked points need, after packs were written anew for them. */
export async function lockAgain(store: Store, stopped: () => boolean): Promise<void> {
  for (const point of await store.listPoints()) {
    const root = await store.listedRoot(point);
    if (root?.lockedUntil && root.lockedUntil > Date.now()) await lockPoint(store, topEntry(root), root.lockedUntil, stopped);
  }
}
