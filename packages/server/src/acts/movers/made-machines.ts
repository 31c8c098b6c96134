import type { Deps } from '../deps';
import { readAllPlatforms } from '../estate/read-platform';
import { noteMade, noteTrial } from '../../records/systems/made-machines';

const hourMs = 3_600_000;

/** What a task made, and for how long it stays; null for good. */
interface Made {
  readonly sourceId: number;
  readonly workloadId: number;
  readonly taskId: string;
  readonly machines: readonly string[];
  readonly hours: number | null;
}

/** Notes machines that were made from points of a workload, and has the platform read again at once, so that they are protected, or said not to be, within moments. */
export async function meetMadeMachines(deps: Deps, { sourceId, workloadId, taskId, machines, hours }: Made): Promise<void> {
  let fresh = false;
  const now = deps.clock.now();
  for (const outerId of machines) {
    const made = { sourceId, outerId, workloadId };
    fresh = (await noteMade(deps.db, now, made)) || fresh;
    if (hours !== null) await noteTrial(deps.db, { ...made, taskId, removeAt: now + hours * hourMs });
  }
  // the mover that tells of it answers other questions meanwhile
  if (fresh)
    void readAllPlatforms(deps, new Set([sourceId])).catch((error: unknown) =>
      deps.log.warn({ err: error }, 'a platform could not be read'),
    );
}
