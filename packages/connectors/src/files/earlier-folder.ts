import { entryFlags, type EntryCursor, type FileFacts, type FolderRef, type TreeReader } from '@lithodex/engine';

/** A folder of the earlier point, gone through in the order of names beside the live one. */
export class EarlierFolder {
  private readonly pieces: AsyncGenerator<EntryCursor>;
  /** On an entry; undefined when more has to be loaded or none is left. */
  private cursor: EntryCursor | undefined;
  private ended = false;
  private passed = 0;

  constructor(
    trees: TreeReader,
    readonly ref: FolderRef,
  ) {
    this.pieces = trees.cursors(ref.node);
  }

  private step(): void {
    if (this.cursor?.next()) this.passed++;
    else this.cursor = undefined;
  }

  /** Goes to the first entry whose name is not before `name`. False when more has to be loaded first. */
  reach(name: string): boolean {
    while (this.cursor && this.cursor.name < name) this.step();
    return this.cursor !== undefined || this.ended;
  }

  /** Loads until {@link reach} is done. */
  async load(name: string): Promise<void> {
    do {
      const next = await this.pieces.next();
      if (next.done) {
        this.ended = true;
        return;
      }
      this.cursor = next.value;
      this.step();
    } while (!this.reach(name));
  }

  /** The entry of this name, after {@link reach}; it stands until the next call. */
  at(name: string): EntryCursor | undefined {
    return this.cursor?.name === name ? this.cursor : undefined;
  }

  /** How many entries there are in all. Goes to the end. */
  async count(): Promise<number> {
    const behindAll = '\u0100';
    if (!this.reach(behindAll)) await this.load(behindAll);
    return this.passed;
  }
}

function sameTimes(old: EntryCursor, now: FileFacts): boolean {
  return (
    old.mtimeNanos === now.mtimeNanos &&
    old.mtimeSeconds === now.mtimeSeconds &&
    old.ctimeNanos === now.ctimeNanos &&
    old.ctimeSeconds === now.ctimeSeconds
  );
}

/** Whether the file is what it was: size, both times and inode. */
export function sameFile(old: EntryCursor, now: FileFacts): boolean {
  return (
    old.kind === 'file' &&
    (old.flags & (entryFlags.unread | entryFlags.torn)) === 0 &&
    old.size === now.size &&
    old.inode === now.inode &&
    sameTimes(old, now)
  );
}

/** Whether the folder's own properties are what they were; says nothing of what is in it. */
export function sameFolder(old: EntryCursor, now: FileFacts): boolean {
  return old.kind === 'folder' && (old.flags & entryFlags.unread) === 0 && old.inode === now.inode && sameTimes(old, now);
}
