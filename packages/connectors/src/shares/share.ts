import type { TreeEntry } from '@lithodex/engine';
import type { ReadableTree } from '../readable-tree';

/** A file or folder on its way to a share; `path` is text that a share can hold. */
export interface ShareItem {
  readonly path: string;
  readonly entry: TreeEntry;
  readonly tree: ReadableTree;
}

/** A share in the network. Every call throws SourceError. */
export interface Share {
  /** Makes a folder and those above it, where they are not there. */
  makeFolder(path: string): Promise<void>;
  /** Takes away an empty folder. */
  removeFolder(path: string): Promise<void>;
  /** Writes files and folders below a folder; folders come before what is in them. `sent` is told the sum of each file. */
  write(
    below: string,
    items: AsyncIterable<ShareItem>,
    sent: (path: string, sum: string, bytes: number) => void,
    stopped: () => boolean,
  ): Promise<void>;
  /** Reads files below a folder again, of known sizes: path and sum of each, '' for one that is longer. */
  read(below: string, files: ReadonlyMap<string, number>, each: (path: string, sum: string) => void, stopped: () => boolean): Promise<void>;
}
