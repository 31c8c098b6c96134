import type { CrunchPool, PutChunk, Store, WriteCounts } from '@lithodex/engine';
import { crunchPools } from './pools';

/** The threads and the writer of tree nodes of one run, with what they have written so far. */
export class PointWriting {
  readonly pool: CrunchPool;
  /** New bytes in finished packs, before and after compression. */
  readonly packed: WriteCounts = { fresh: 0, stored: 0 };
  private readonly nodes: ReturnType<Store['writer']>;
  private checkpointDue = false;

  /** `expected`: how many chunks there may be that are not stored yet. `fresh`: take nothing as stored. */
  constructor(
    private readonly store: Store,
    expected: number,
    fresh: boolean,
  ) {
    const claims = fresh ? store.freshClaims(expected) : store.claims(expected);
    const onPack = (toc: Parameters<typeof store.index.written>[0]) => {
      for (const block of toc.blocks) {
        this.packed.fresh += block.raw;
        this.packed.stored += block.stored;
      }
      this.checkpointDue = store.index.written(toc) || this.checkpointDue;
    };
    this.nodes = store.writer(claims, onPack);
    this.pool = crunchPools.of(store);
    this.pool.begin(claims, onPack);
  }

  readonly put: PutChunk = (data) => this.nodes.put(data);

  /** Waits when packs of tree nodes have to be written, and keeps the index up to date. */
  async drain(): Promise<void> {
    await this.nodes.drain();
    if (!this.checkpointDue) return;
    this.checkpointDue = false;
    await this.store.index.checkpoint();
  }

  /** Writes what is left and returns the sums. */
  async finish(): Promise<WriteCounts> {
    await this.nodes.finish();
    const counts = await this.pool.finish();
    return { fresh: counts.fresh + this.nodes.counts.fresh, stored: counts.stored + this.nodes.counts.stored };
  }

  /** Runs the work with it; the threads are given up when it fails. */
  async during<T>(work: () => Promise<T>): Promise<T> {
    try {
      return await work();
    } catch (error) {
      await crunchPools.drop(this.store);
      throw error;
    }
  }
}
