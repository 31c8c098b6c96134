import { CrunchPool, KeptPools } from '@lithodex/engine';
import { PlacePool } from './files/place-pool';

const threads = 2;

/** Threads of this thread that read and store files. */
export const crunchPools = new KeptPools((keys, place) => new CrunchPool(keys, place, threads));

/** Threads of this thread that write files of restores. */
export const placePools = new KeptPools((keys, place) => new PlacePool(keys, place));

/** Ends the threads kept for later tasks. */
export async function closePools(): Promise<void> {
  await Promise.all([crunchPools.close(), placePools.close()]);
}
