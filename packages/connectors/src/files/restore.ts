import fs from 'node:fs';
import {
  baseName,
  besideName,
  decideConflict,
  joinPath,
  parentPath,
  safeParts,
  type ConflictRule,
  type RestoreAction,
} from '@lithodex/core';
import {
  EngineError,
  inFolder,
  openFolderBelow,
  posix,
  systemCode,
  type ChunkReader,
  type KeySet,
  type TreeEntry,
  type TreeReader,
} from '@lithodex/engine';
import { contentMatches, RangeCursor } from './content-check';
import { applyMetadata, applyMetadataOpen, makeSpecial } from './metadata';

export interface RestoredItem {
  /** Byte string below the destination. */
  readonly path: string;
  readonly action: RestoreAction | 'failed';
  readonly kind: TreeEntry['kind'];
  readonly bytes: number;
  /** Name it got, where put beside; or why it failed or what could not be set. */
  readonly remark: string;
}

export interface RestoreOptions {
  /** Absolute path of the destination, byte string; it is made when missing. */
  readonly base: string;
  readonly rule: ConflictRule;
  /** Goes into the names of items put beside. */
  readonly stamp: string;
  /** Names what is being written, so that a retry recognises leftovers. */
  readonly taskId: string;
  /** Decide and report, write nothing. */
  readonly trial: boolean;
  readonly trees: TreeReader;
  readonly chunks: ChunkReader;
  readonly keys: KeySet;
  readonly onItem: (item: RestoredItem) => void;
  readonly onBytes: (bytes: number) => void;
  readonly stopped: () => boolean;
}

const { O_RDONLY, O_DIRECTORY, O_NOFOLLOW, O_RDWR, O_CREAT, O_EXCL } = fs.constants;

/**
 * Writes items of a point below a destination. Folders are entered through open descriptors and links are never followed, so that neither a name nor a link
 * in the destination or in the data leads outside. A file is written under a temporary name, read back and checked, then linked or renamed to its name.
 */
export class Restorer {
  private readonly base: number;
  private readonly written = new Map<string, string>();
  private temporary = 0;

  constructor(private readonly options: RestoreOptions) {
    const path = Buffer.from(options.base, 'latin1');
    if (!options.trial) fs.mkdirSync(path, { recursive: true });
    this.base = fs.existsSync(path) ? fs.openSync(path, O_RDONLY | O_DIRECTORY) : -1;
  }

  close(): void {
    if (this.base >= 0) fs.closeSync(this.base);
  }

  /**
   * Restores one picked item (a folder with everything below) to `to`, a path below the destination. `parents` describes the folders above it in the point,
   * outermost first; those that have to be made get these properties.
   */
  async item(entry: TreeEntry, to: string, parents: readonly TreeEntry[] = []): Promise<void> {
    const parts = safeParts(parentPath(to));
    if (!parts || !safeParts(to)) throw new EngineError('PATH_MISSING', 'the path leaves the destination');
    if (to === '') return this.children(entry, this.base < 0 ? -1 : fs.openSync(`/proc/self/fd/${this.base}/.`, O_RDONLY), '');
    try {
      const folder = this.openParent(parts, parents);
      try {
        await this.write(folder, { ...entry, name: baseName(to) }, parentPath(to));
      } finally {
        if (folder >= 0) fs.closeSync(folder);
      }
    } catch (error) {
      this.rethrowIfFatal(error);
      this.options.onItem({ path: to, action: 'failed', kind: entry.kind, bytes: 0, remark: reason(error) });
    }
  }

  private rethrowIfFatal(error: unknown): void {
    if (error instanceof EngineError && error.code === 'STOPPED') throw error;
    if (systemCode(error) === 'ENOSPC') throw new EngineError('TARGET_FULL', 'no room left at the destination', { cause: error });
  }

  /** Opens the folder that gets the item, making what is missing. -1 when a trial meets a missing folder. */
  private openParent(parts: readonly string[], parents: readonly TreeEntry[]): number {
    if (this.base < 0) return -1;
    let at = openFolderBelow(this.base, []);
    for (const [i, part] of parts.entries()) {
      const path = inFolder(at, part);
      let next: number;
      try {
        if (!fs.lstatSync(path, { throwIfNoEntry: false })) {
          if (this.options.trial) return -1;
          fs.mkdirSync(path, 0o755);
          const like = parents[i];
          if (like) applyMetadata(path, like);
        }
        next = fs.openSync(path, O_RDONLY | O_DIRECTORY | O_NOFOLLOW);
      } finally {
        fs.closeSync(at);
      }
      at = next;
    }
    return at;
  }

  /** Restores one entry into an open folder; in a `fresh` one, just made by us, nothing can exist yet. */
  private async write(folder: number, entry: TreeEntry, below: string, fresh = false): Promise<void> {
    if (this.options.stopped()) throw new EngineError('STOPPED');
    const path = joinPath(below, entry.name);
    const report = (action: RestoredItem['action'], remark = '', bytes = 0) => {
      this.options.onItem({ path, action, kind: entry.kind, bytes, remark });
    };
    try {
      if (safeParts(entry.name)?.length !== 1) throw new Error('not a name');
      if (entry.unread) {
        report('failed', 'not in this point: it could not be read when the point was taken');
        return;
      }
      const there = folder < 0 || fresh ? undefined : fs.lstatSync(inFolder(folder, entry.name), { bigint: true, throwIfNoEntry: false });
      const identical = there !== undefined && (await this.identical(folder, entry, there));
      const existing = there && { isFolder: there.isDirectory(), mtimeNs: there.mtimeNs, identical };
      let action = decideConflict(this.options.rule, { isFolder: entry.kind === 'folder', mtimeNs: entry.mtimeNs }, existing);
      let name = entry.name;
      if (action === 'beside') {
        const free = await this.nameBeside(folder, entry);
        name = free.name;
        if (free.same) action = 'same';
      }
      if (entry.kind === 'folder' && action !== 'leave') await this.folder(folder, { ...entry, name }, below, action, report);
      else if (action === 'leave' || action === 'same' || this.options.trial) report(action, action === 'beside' ? name : '', entry.size);
      else report(action, await this.place(folder, { ...entry, name }, action, joinPath(below, name)), entry.size);
    } catch (error) {
      this.rethrowIfFatal(error);
      report('failed', reason(error));
    }
  }

  private async nameBeside(folder: number, entry: TreeEntry): Promise<{ name: string; same: boolean }> {
    for (let attempt = 1; ; attempt++) {
      const name = besideName(entry.name, this.options.stamp, attempt);
      const there = fs.lstatSync(inFolder(folder, name), { bigint: true, throwIfNoEntry: false });
      if (!there) return { name, same: false };
      if (await this.identical(folder, { ...entry, name }, there)) return { name, same: true };
    }
  }

  private async identical(folder: number, entry: TreeEntry, there: fs.BigIntStats): Promise<boolean> {
    const path = inFolder(folder, entry.name);
    if (entry.kind === 'link') return there.isSymbolicLink() && fs.readlinkSync(path, 'latin1') === entry.linkTarget;
    if (entry.kind !== 'file') return entry.kind === 'fifo' ? there.isFIFO() : false;
    const plain =
      there.isFile() &&
      Number(there.size) === entry.size &&
      there.mtimeNs === entry.mtimeNs &&
      (Number(there.mode) & 0o7777) === entry.mode;
    if (!plain) return false;
    const fd = fs.openSync(path, O_RDONLY | O_NOFOLLOW);
    try {
      return await contentMatches(fd, entry, this.options.trees, this.options.keys);
    } finally {
      fs.closeSync(fd);
    }
  }

  private async folder(
    parent: number,
    entry: TreeEntry,
    below: string,
    action: RestoreAction,
    report: (action: RestoreAction, remark?: string) => void,
  ): Promise<void> {
    const path = joinPath(below, entry.name);
    if (this.options.trial) {
      report(action);
      await this.children(
        entry,
        parent < 0 || action !== 'merge' ? -1 : fs.openSync(inFolder(parent, entry.name), O_RDONLY | O_DIRECTORY | O_NOFOLLOW),
        path,
      );
      return;
    }
    const at = inFolder(parent, entry.name);
    if (action === 'replace') fs.unlinkSync(at);
    if (action !== 'merge') fs.mkdirSync(at, 0o700);
    await this.children(entry, fs.openSync(at, O_RDONLY | O_DIRECTORY | O_NOFOLLOW), path, action !== 'merge');
    const failed = action !== 'merge' || this.options.rule === 'replace' ? applyMetadata(at, entry) : [];
    report(action, failed.length ? `not set: ${failed.join(', ')}` : '');
  }

  /** Restores what is below a folder; closes `fd`. */
  private async children(entry: TreeEntry, fd: number, path: string, fresh = false): Promise<void> {
    try {
      if (entry.folder)
        for await (const piece of this.options.trees.pieces(entry.folder.node))
          for (const child of piece) await this.write(fd, child, path, fresh);
    } finally {
      if (fd >= 0) fs.closeSync(fd);
    }
  }

  /** Makes one item that is no folder; returns a remark. */
  private async place(folder: number, entry: TreeEntry, action: RestoreAction, path: string): Promise<string> {
    const { taskId } = this.options;
    const temporary = inFolder(folder, `.lithodex-${taskId}-${this.temporary++}`);
    const final = inFolder(folder, entry.name);
    try {
      const made =
        this.linkToWritten(entry, temporary) ?? (await this.make(folder, entry, temporary, action === 'replace' ? temporary : final));
      if (made.at === temporary && action === 'replace') fs.renameSync(temporary, final);
      else if (made.at === temporary) {
        fs.linkSync(temporary, final);
        fs.unlinkSync(temporary);
      }
      const { failed } = made;
      if (entry.hardId) this.written.set(entry.hardId, path);
      return [action === 'beside' ? entry.name : '', failed.length ? `not set: ${failed.join(', ')}` : ''].filter(Boolean).join('; ');
    } catch (error) {
      fs.rmSync(temporary, { force: true });
      throw error;
    }
  }

  /** A further name of a file written before. Undefined when there is none, or the file system can't link to it. */
  private linkToWritten(entry: TreeEntry, temporary: Buffer): Made | undefined {
    const first = entry.hardId && this.written.get(entry.hardId);
    if (!first) return undefined;
    const folder = openFolderBelow(this.base, safeParts(parentPath(first)) ?? []);
    try {
      fs.rmSync(temporary, { force: true });
      fs.linkSync(inFolder(folder, baseName(first)), temporary);
      return { at: temporary, failed: [] };
    } catch {
      return undefined;
    } finally {
      fs.closeSync(folder);
    }
  }

  /** Makes an item, whole and with its properties, at `name` if it can be made without a name first, else at `temporary`. */
  private async make(folder: number, entry: TreeEntry, temporary: Buffer, name: Buffer): Promise<Made> {
    if (entry.kind === 'file') return this.file(folder, entry, temporary, name);
    fs.rmSync(temporary, { force: true });
    if (entry.kind === 'link') fs.symlinkSync(Buffer.from(entry.linkTarget ?? '', 'latin1'), temporary);
    else makeSpecial(temporary, entry);
    return { at: temporary, failed: applyMetadata(temporary, entry) };
  }

  private async file(folder: number, entry: TreeEntry, temporary: Buffer, name: Buffer): Promise<Made> {
    const { fd, named } = openNew(folder, temporary);
    try {
      await this.fill(fd, entry);
      if (!(await contentMatches(fd, entry, this.options.trees, this.options.keys)))
        throw new EngineError('OBJECT_DAMAGED', 'what was written does not read back the same');
      const failed = applyMetadataOpen(fd, entry);
      if (!named) posix.nameOpenFile(fd, name);
      return { at: named ? temporary : name, failed };
    } finally {
      fs.closeSync(fd);
    }
  }

  private async fill(fd: number, entry: TreeEntry): Promise<void> {
    const places = new RangeCursor(entry.ranges ?? [[0, entry.size]]);
    for await (const part of this.options.trees.contentParts(entry.content)) {
      for (const [i, length] of part.lengths.entries()) {
        if (this.options.stopped()) throw new EngineError('STOPPED');
        const data = await this.options.chunks.read(part.names.subarray(i * 32, i * 32 + 32));
        for (const { at: from, offset, count } of places.next(length)) {
          for (let done = 0; done < count;) done += fs.writeSync(fd, data, from + done, count - done, offset + done);
        }
        this.options.onBytes(length);
      }
    }
    fs.ftruncateSync(fd, entry.size);
  }
}

/** An item that was made: where it stands now, and which properties could not be set. */
interface Made {
  readonly at: Buffer;
  readonly failed: readonly string[];
}

/**
 * A new file for writing: without a name until it is whole, where the file system can do that (a kill then leaves nothing, and it is several times faster than making a
 * name first); under the name `at` elsewhere.
 */
function openNew(folder: number, at: Buffer): { fd: number; named: boolean } {
  const withoutName = 0o20200000;
  try {
    return { fd: fs.openSync(`/proc/self/fd/${folder}/.`, withoutName | O_RDWR, 0o600), named: false };
  } catch {
    fs.rmSync(at, { force: true });
    return { fd: fs.openSync(at, O_RDWR | O_CREAT | O_EXCL, 0o600), named: true };
  }
}

function reason(error: unknown): string {
  const code = systemCode(error);
  switch (code) {
    case 'ELOOP':
    case 'ENOTDIR':
      return 'something that is not a folder is in the way; links are not followed';
    case 'EEXIST':
      return 'something of this name appeared meanwhile and was left';
    case 'EACCES':
    case 'EPERM':
    case 'EROFS':
      return `the mover may not write here (${code})`;
    default:
      return error instanceof Error ? error.message : String(error);
  }
}
