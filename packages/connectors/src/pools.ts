import { CrunchPool, KeptPools, type Store } from '@lithodex/engine';
import { PlacePool } from './files/place-pool';
import { ScoutThread } from './files/scout';

const threads = 2;

const crunchPools = new KeptPools((keys, place) => new CrunchPool(keys, place, threads));
const placePools = new KeptPools((keys, place) => new PlacePool(keys, place));

/** Threads of this thread that read and store files. A thread does one thing after another: those that write files end, so that their memory is free. */
export function poolToStore(store: Store): CrunchPool {
  void placePools.close();
  return crunchPools.of(store);
}

/** Threads of this thread that write files of restores. Those that store end. */
export function poolToPlace(store: Store): PlacePool {
  void crunchPools.close();
  return placePools.of(store);
}

/** Ends the threads for a target, after work with them has failed or was stopped. */
export async function dropPools(store: Store): Promise<void> {
  await Promise.all([crunchPools.drop(store), placePools.drop(store)]);
}

/** Thread of this thread that lists folders ahead. */
export const scoutThread = new ScoutThread();

/** Ends the threads kept for later tasks. */
export async function closePools(): Promise<void> {
  await Promise.all([crunchPools.close(), placePools.close(), scoutThread.close()]);
}
