import type { CapturePool, PutChunk, TreeReader, WriteCounts } from '@lithodex/engine';

/** Where a capture stores what it reads, and looks up the point before: a store that is open here, or one that another mover has open. */
export interface CaptureStore {
  readonly trees: TreeReader;
  /** Name of a block of zeros of an image. */
  readonly zeros: Buffer;
  /** `expected`: how many chunks there may be that are not stored yet. `fresh`: take nothing as stored. */
  begin(expected: number, fresh: boolean): PointWriting;
}

/** What takes the content and the tree nodes of one point. */
export interface PointWriting {
  readonly pool: CapturePool;
  /** New bytes in finished packs, before and after compression. */
  readonly packed: Readonly<WriteCounts>;
  /** Stores a tree node. */
  readonly put: PutChunk;
  /** Waits while there is too much under way. */
  drain(): Promise<void>;
  /** Writes what is left and returns the sums. */
  finish(): Promise<WriteCounts>;
  /** Runs the work with it; what was kept for it is given up when it fails. */
  during<T>(work: () => Promise<T>): Promise<T>;
}
