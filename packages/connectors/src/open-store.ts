import {
  keyedHash,
  type ClaimTable,
  type CrunchPool,
  type PutChunk,
  type Store,
  type TreeReader,
  type WriteCounts,
} from '@lithodex/engine';
import type { CaptureStore, PointWriting } from './capture-store';
import { zeroBlock } from './machines/image-map';
import { dropPools, poolToStore } from './pools';

/** A store that is open here, for captures. */
export class OpenStore implements CaptureStore {
  constructor(private readonly store: Store) {}

  get trees(): TreeReader {
    return this.store.trees;
  }

  get zeros(): Buffer {
    return keyedHash(this.store.keys.nameKey, zeroBlock);
  }

  begin(expected: number, fresh: boolean): OpenStoreWriting {
    return new OpenStoreWriting(this.store, expected, fresh);
  }
}

/** The threads and the writer of tree nodes of one run, with what they have written so far. */
class OpenStoreWriting implements PointWriting {
  readonly pool: CrunchPool;
  readonly packed: WriteCounts = { fresh: 0, stored: 0 };
  private readonly nodes: ReturnType<Store['writer']>;
  private checkpointDue = false;
  /** Made when something is to be stored: a run that finds nothing new needs none. */
  private claimTable: ClaimTable | undefined;

  constructor(
    private readonly store: Store,
    private readonly expected: number,
    private readonly fresh: boolean,
  ) {
    const onPack = (toc: Parameters<typeof store.index.written>[0]) => {
      for (const block of toc.blocks) {
        this.packed.fresh += block.raw;
        this.packed.stored += block.stored;
      }
      this.checkpointDue = store.index.written(toc) || this.checkpointDue;
    };
    this.nodes = store.writer((name) => this.claims().claim(name), onPack);
    this.pool = poolToStore(store);
    this.pool.begin(() => this.claims(), onPack);
  }

  private claims(): ClaimTable {
    const { store, expected, fresh } = this;
    return (this.claimTable ??= fresh ? store.freshClaims(expected) : store.claims(expected));
  }

  readonly put: PutChunk = (data) => this.nodes.put(data);

  async drain(): Promise<void> {
    await this.nodes.drain();
    if (!this.checkpointDue) return;
    this.checkpointDue = false;
    await this.store.index.checkpoint();
  }

  async finish(): Promise<WriteCounts> {
    await this.nodes.finish();
    const counts = await this.pool.finish();
    this.claimTable?.release();
    return { fresh: counts.fresh + this.nodes.counts.fresh, stored: counts.stored + this.nodes.counts.stored };
  }

  async during<T>(work: () => Promise<T>): Promise<T> {
    try {
      return await work();
    } catch (error) {
      await dropPools(this.store);
      throw error;
    }
  }
}
