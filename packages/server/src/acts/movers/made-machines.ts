import type { Deps } from '../deps';
import { readAllPlatforms } from '../estate/read-platform';
import { noteMade } from '../../records/systems/made-machines';

/** Notes machines that were made from points of a workload, and has the platform read again at once, so that they are protected, or said not to be, within moments. */
export async function meetMadeMachines(deps: Deps, sourceId: number, workloadId: number, machines: readonly string[]): Promise<void> {
  let fresh = false;
  for (const outerId of machines) fresh = (await noteMade(deps.db, deps.clock.now(), { sourceId, outerId, workloadId })) || fresh;
  // the mover that tells of it answers other questions meanwhile
  if (fresh)
    void readAllPlatforms(deps, new Set([sourceId])).catch((error: unknown) =>
      deps.log.warn({ err: error }, 'a platform could not be read'),
    );
}
