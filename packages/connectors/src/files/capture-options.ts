import type { PathFilter } from '@lithodex/core';
import type { CapturePool, PutChunk, TreeEntry, TreeReader } from '@lithodex/engine';
import type { HostLimits } from './host-limits';

export type CaptureWarningCode = 'UNREADABLE' | 'VANISHED' | 'CHANGED_WHILE_READ' | 'ATTRIBUTES_UNREADABLE' | 'CHANGED_UNSEEN';

export interface CaptureWarning {
  readonly code: CaptureWarningCode;
  /** Byte string below the root. */
  readonly path: string;
  /** The system's own code, where there is one. */
  readonly cause: string;
}

export interface CaptureOptions {
  /** Absolute path, byte string. */
  readonly root: string;
  /** Top folder of the point before. */
  readonly previous: TreeEntry | undefined;
  /** Everything is read again, and what should be as it was in the point before is compared with it; otherwise that is taken over. */
  readonly rereads: boolean;
  readonly filter: PathFilter;
  /** Absolute paths of folders left out by themselves: where targets keep their data. */
  readonly leftOutByItself: readonly string[];
  readonly crossFileSystems: boolean;
  /** Whose rights the source is read with; null for those of the process. */
  readonly readAs: string | null;
  readonly limits: HostLimits;
  readonly trees: TreeReader;
  readonly pool: CapturePool;
  /** Stores a tree node. */
  readonly put: PutChunk;
  /** Called between items: waits when packs of tree nodes have to be written. */
  readonly drain: () => Promise<void>;
  readonly onWarning: (warning: CaptureWarning) => void;
  readonly stopped: () => boolean;
}
