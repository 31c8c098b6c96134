import { FolderBuilder, packEntry, type PutChunk, type TreeEntry } from '@lithodex/engine';
import type { BaseFolder } from './base-folder';

/** A folder that is being put together: what is in it may still be on its way when all of it is known. */
export class OpenFolder {
  private readonly builder: FolderBuilder;
  private awaited = 1;

  /** `self`: its own entry, without what is in it; `ended` is given the whole one. */
  constructor(
    put: PutChunk,
    readonly self: TreeEntry,
    readonly path: string,
    readonly base: BaseFolder,
    readonly leftOut: boolean,
    private readonly ended: (entry: TreeEntry) => void,
  ) {
    this.builder = new FolderBuilder(put);
  }

  /** A place for the next entry by name. Returns what fills it; null leaves it empty. */
  reserve(): (entry: TreeEntry | null) => void {
    const place = this.builder.reserve();
    this.awaited++;
    return (entry) => {
      this.builder.fill(place, entry && packEntry(entry));
      this.let();
    };
  }

  /** Nothing more comes into it. */
  close(): void {
    this.let();
  }

  private let(): void {
    if (--this.awaited > 0) return;
    this.ended({ ...this.self, folder: this.builder.finish() });
  }
}
