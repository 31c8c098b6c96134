import type { KeySet } from '../keys/key-set';
import { giveBackFreeMemory } from '../native/free-memory';
import type { Store } from '../store/store';
import type { TargetPlace } from '../targets/place';

/** Pools of threads, one for each target, kept from task to task: starting threads takes longer than many a task. */
export class KeptPools<P extends { close(): Promise<void> }> {
  private readonly kept = new Map<string, { readonly keys: KeySet; readonly pool: P }>();

  constructor(private readonly make: (keys: KeySet, place: TargetPlace) => P) {}

  of({ header, keys, target }: Store): P {
    const known = this.kept.get(header.targetId);
    if (known?.keys.dataKey.equals(keys.dataKey)) return known.pool;
    const pool = this.make(keys, target.place);
    this.kept.set(header.targetId, { keys, pool });
    return pool;
  }

  /** Ends the threads for a target, after work with them has failed or was stopped. */
  async drop({ header }: Store): Promise<void> {
    const known = this.kept.get(header.targetId);
    this.kept.delete(header.targetId);
    await known?.pool.close();
  }

  async close(): Promise<void> {
    const pools = [...this.kept.values()];
    this.kept.clear();
    if (!pools.length) return;
    await Promise.all(pools.map(({ pool }) => pool.close()));
    giveBackFreeMemory();
  }
}
