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
  ByteReader,
  closeFile,
  EngineError,
  entryFlags,
  inFolder,
  openFolderBeneath,
  openIn,
  readEntry,
  systemCode,
  type EntryCursor,
  type TreeEntry,
} from '@lithodex/engine';
import { contentMatches } from './content-check';
import { Countdown, nothingToDo, OpenFolder, type Begun } from './begun';
import { Destination, type DestinationOptions } from './destination';
import { applyMetadata, applyMetadataOpen, makeSpecial, propertiesOf } from './metadata';
import type { RestoredItem } from '../connector';
import type { ReadableTree } from '../readable-tree';
import { reason } from './place-file';
import type { Placed, Placer } from './placer';

export interface RestoreOptions extends DestinationOptions {
  readonly rule: ConflictRule;
  /** Goes into the names of items put beside. */
  readonly stamp: string;
  /** Names what is being written, so that a retry recognises leftovers. */
  readonly taskId: string;
  readonly tree: ReadableTree;
  readonly placer: Placer;
  readonly onItem: (item: RestoredItem) => void;
  /** Called between items: waits when what was told has to be passed on. */
  readonly drain: () => Promise<void> | undefined;
  readonly stopped: () => boolean;
}

const { O_RDONLY, O_NOFOLLOW, O_NONBLOCK } = fs.constants;

type Report = (action: RestoredItem['action'], remark?: string, bytes?: number) => void;

/**
 * Writes items of a point below a destination. Folders are entered through open descriptors and links are never followed, so that neither a name nor a link
 * in the destination or in the data leads outside. What is to be done is decided here, one item after another; files are made by the placer, many at a time, and a folder
 * gets its properties when everything below it is there.
 */
export class Restorer {
  private readonly destination: Destination;
  /** -1: not there, in a trial. */
  private readonly base: number;
  /** Where the first name of a file with several was put, and when it is there. */
  private readonly written = new Map<string, { readonly path: string; readonly outcome: Promise<Placed> }>();
  private temporary = 0;
  private fatal: EngineError | undefined;

  constructor(private readonly options: RestoreOptions) {
    this.destination = new Destination(options);
    this.base = this.destination.base;
  }

  close(): void {
    this.destination.close();
  }

  /**
   * Restores one picked item (a folder with everything below) to `to`, a path below the destination. `parents` describes the folders above it in the point,
   * outermost first; those that have to be made get these properties. Throws STOPPED and TARGET_FULL; everything else is told item by item.
   */
  async item(entry: TreeEntry, to: string, parents: readonly TreeEntry[] = []): Promise<void> {
    const parts = safeParts(parentPath(to));
    if (!parts || !safeParts(to)) throw new EngineError('PATH_MISSING', 'the path leaves the destination');
    let begun = nothingToDo;
    try {
      if (to === '') begun = await this.children(entry, new OpenFolder(this.base < 0 ? -1 : openFolderBeneath(this.base, '')), '', false);
      else {
        const folder = new OpenFolder(this.destination.parent(parts, parents));
        begun = await this.write(folder, { ...entry, name: baseName(to) }, parentPath(to), false);
        folder.release();
      }
    } catch (error) {
      this.rethrowIfFatal(error);
      this.options.onItem({ path: to, action: 'failed', kind: entry.kind, bytes: 0, remark: reason(error) });
    } finally {
      await this.options.placer.idle();
      await begun.done;
    }
    if (this.fatal) throw this.fatal;
  }

  private rethrowIfFatal(error: unknown): void {
    if (error instanceof EngineError && (error === this.fatal || error.code === 'STOPPED')) throw error;
    if (systemCode(error) === 'ENOSPC') throw new EngineError('TARGET_FULL', 'no room left at the destination', { cause: error });
  }

  /** Restores one entry into an open folder; in a `fresh` one, just made by us, nothing can exist yet. */
  private async write(folder: OpenFolder, entry: TreeEntry, below: string, fresh: boolean): Promise<Begun> {
    if (this.fatal) throw this.fatal;
    if (this.options.stopped()) throw new EngineError('STOPPED');
    const path = joinPath(below, entry.name);
    const report: Report = (action, remark = '', bytes = 0) => {
      this.options.onItem({ path, action, kind: entry.kind, bytes, remark });
    };
    try {
      if (safeParts(entry.name)?.length !== 1) throw new Error('not a name');
      if (entry.unread) {
        report('failed', 'not in this point: it could not be read when the point was taken');
        return nothingToDo;
      }
      const { fd } = folder;
      if (fd >= 0 && !fresh) this.destination.checkName(fd, entry.name);
      const there = fd < 0 || fresh ? undefined : fs.lstatSync(inFolder(fd, entry.name), { bigint: true, throwIfNoEntry: false });
      const identical = there !== undefined && (await this.identical(fd, entry, there));
      const existing = there && { isFolder: there.isDirectory(), mtimeNs: there.mtimeNs, identical };
      let action = decideConflict(this.options.rule, { isFolder: entry.kind === 'folder', mtimeNs: entry.mtimeNs }, existing);
      let name = entry.name;
      if (action === 'beside') {
        const free = await this.nameBeside(fd, entry);
        name = free.name;
        if (free.same) action = 'same';
      }
      if (entry.kind === 'folder' && action !== 'leave') return await this.folder(folder, { ...entry, name }, below, action, report);
      if (action === 'leave' || action === 'same' || this.options.trial) {
        report(action, action === 'beside' ? name : '', entry.size);
        return nothingToDo;
      }
      return await this.place(folder, { ...entry, name }, action, joinPath(below, name), report);
    } catch (error) {
      this.rethrowIfFatal(error);
      report('failed', reason(error));
      return nothingToDo;
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
    const fd = openIn(folder, entry.name, O_RDONLY | O_NOFOLLOW | O_NONBLOCK);
    try {
      return fs.fstatSync(fd).isFile() && (await contentMatches(fd, entry, this.options.tree));
    } finally {
      closeFile(fd);
    }
  }

  private async folder(parent: OpenFolder, entry: TreeEntry, below: string, action: RestoreAction, report: Report): Promise<Begun> {
    const path = joinPath(below, entry.name);
    const enter = () => new OpenFolder(this.destination.enter(parent.fd, entry.name));
    if (this.options.trial) {
      report(action);
      return this.children(entry, parent.fd < 0 || action !== 'merge' ? new OpenFolder(-1) : enter(), path, false);
    }
    const at = inFolder(parent.fd, entry.name);
    if (action === 'replace') fs.unlinkSync(at);
    if (action !== 'merge') fs.mkdirSync(at, 0o700);
    const own = enter();
    own.hold();
    const children = await this.children(entry, own, path, action !== 'merge');
    const finish = () => {
      const failed = action !== 'merge' || this.options.rule === 'replace' ? applyMetadataOpen(own.fd, propertiesOf(entry)) : [];
      own.release();
      report(action, failed.length ? `not set: ${failed.join(', ')}` : '');
    };
    return { done: children.done.then(finish) };
  }

  /** Restores what is below a folder, which is let go when all of it is there. */
  private async children(entry: TreeEntry, folder: OpenFolder, path: string, fresh: boolean): Promise<Begun> {
    const begun = new Countdown();
    void begun.done.then(() => {
      folder.release();
    });
    try {
      if (entry.folder)
        for await (const piece of this.options.tree.trees.cursors(entry.folder.node))
          while (piece.next()) {
            let wait: Promise<void> | undefined;
            if (fresh && this.hand(folder, piece, path, begun)) wait = this.options.placer.flushIfFull();
            else begun.add(await this.write(folder, readEntry(new ByteReader(piece.bytes())), path, fresh));
            if (wait) await wait;
            wait = this.options.drain();
            if (wait) await wait;
          }
    } finally {
      begun.close();
    }
    return begun;
  }

  /**
   * Hands a plain file to the placer as it is stored, which is most of the work of most restores; false when it needs a closer look. Only for a fresh folder, where
   * nothing has to be decided.
   */
  private hand(folder: OpenFolder, at: EntryCursor, below: string, begun: Countdown): boolean {
    const { placer, onItem } = this.options;
    const special = entryFlags.unread | entryFlags.hardId | entryFlags.lists;
    if (at.kind !== 'file' || (at.flags & special) !== 0 || folder.fd < 0 || !placer.manyWith(at.size)) return false;
    if (this.fatal) throw this.fatal;
    if (this.options.stopped()) throw new EngineError('STOPPED');
    if (safeParts(at.name)?.length !== 1) return false;
    const { name, size } = at;
    const settle = ({ failed, notSet, fatal }: Placed) => {
      folder.release();
      this.fatal ??= fatal;
      const remark = failed || (notSet.length ? `not set: ${notSet.join(', ')}` : '');
      if (!fatal)
        onItem({ path: joinPath(below, name), action: failed ? 'failed' : 'write', kind: 'file', bytes: failed ? 0 : size, remark });
      begun.close();
    };
    if (!placer.placeStored(folder.fd, at, `.lithodex-${this.options.taskId}-${this.temporary++}`, settle)) return false;
    folder.hold();
    begun.open();
    return true;
  }

  /** Makes one item that is no folder. */
  private async place(folder: OpenFolder, entry: TreeEntry, action: RestoreAction, path: string, report: Report): Promise<Begun> {
    const tell = (notSet: readonly string[]) => {
      const remark = [action === 'beside' ? entry.name : '', notSet.length ? `not set: ${notSet.join(', ')}` : ''];
      report(action, remark.filter(Boolean).join('; '), entry.size);
    };
    const temporary = `.lithodex-${this.options.taskId}-${this.temporary++}`;
    const first = entry.hardId === undefined ? undefined : this.written.get(entry.hardId);
    if (entry.kind !== 'file' || (first && (await this.linkTo(first, folder.fd, temporary)))) {
      tell(this.makeHere(folder.fd, entry, temporary, action === 'replace'));
      return nothingToDo;
    }
    const { outcome } = await this.options.placer.place({ folder: folder.fd, entry, temporary, replace: action === 'replace' });
    if (entry.hardId !== undefined) this.written.set(entry.hardId, { path, outcome });
    folder.hold();
    const settle = ({ failed, notSet, fatal }: Placed) => {
      folder.release();
      this.fatal ??= fatal;
      if (failed && !fatal) report('failed', failed);
      else if (!failed) tell(notSet);
    };
    return { done: outcome.then(settle) };
  }

  /** Gives an item that has its temporary name (a further name of a file written before) or still has to be made (no file) its final name. */
  private makeHere(folder: number, entry: TreeEntry, temporary: string, replace: boolean): string[] {
    const at = inFolder(folder, temporary);
    const final = inFolder(folder, entry.name);
    try {
      let failed: string[] = [];
      if (entry.kind !== 'file') {
        fs.rmSync(at, { force: true });
        if (entry.kind === 'link') fs.symlinkSync(Buffer.from(entry.linkTarget ?? '', 'latin1'), at);
        else makeSpecial(at, entry);
        failed = applyMetadata(at, entry);
      }
      if (replace) fs.renameSync(at, final);
      else {
        fs.linkSync(at, final);
        fs.unlinkSync(at);
      }
      return failed;
    } catch (error) {
      fs.rmSync(at, { force: true });
      throw error;
    }
  }

  /** A further name of a file written before. False when that one was not written, or the file system can't link to it. */
  private async linkTo(first: { path: string; outcome: Promise<Placed> }, folder: number, temporary: string): Promise<boolean> {
    await this.options.placer.flush();
    if ((await first.outcome).failed) return false;
    const at = inFolder(folder, temporary);
    const from = openFolderBeneath(this.base, parentPath(first.path));
    try {
      fs.rmSync(at, { force: true });
      fs.linkSync(inFolder(from, baseName(first.path)), at);
      return true;
    } catch {
      return false;
    } finally {
      closeFile(from);
    }
  }
}
