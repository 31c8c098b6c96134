import { isInside, joinPath, type PathFilter } from '@lithodex/core';
import {
  EngineError,
  posix,
  storeContent,
  systemCode,
  writeFolder,
  type CrunchPool,
  type FileJob,
  type FileResult,
  type PutChunk,
  type TreeEntry,
  type TreeReader,
} from '@lithodex/engine';
import type { BigIntStats } from 'node:fs';
import { describeEntry, listNames, statEntry, storedForm, type LiveEntry } from './folder-listing';

export type CaptureWarningCode = 'UNREADABLE' | 'VANISHED' | 'CHANGED_WHILE_READ' | 'ATTRIBUTES_UNREADABLE';

export interface CaptureWarning {
  readonly code: CaptureWarningCode;
  /** Byte string below the root. */
  readonly path: string;
  /** The system's own code, where there is one. */
  readonly cause: string;
}

export interface CaptureProgress {
  items: number;
  /** Bytes of all files passed, reused ones included. */
  bytes: number;
  /** Bytes read from the source. */
  read: number;
  files: number;
}

export interface CaptureOptions {
  /** Absolute path, byte string. */
  readonly root: string;
  /** Top folder of the point to build on; a full has none and reads everything again. */
  readonly previous: TreeEntry | undefined;
  readonly filter: PathFilter;
  /** Absolute paths of folders left out by themselves: where targets keep their data. */
  readonly leftOutByItself: readonly string[];
  readonly crossFileSystems: boolean;
  readonly account: posix.Account | undefined;
  readonly trees: TreeReader;
  readonly pool: CrunchPool;
  /** Stores a tree node. */
  readonly put: PutChunk;
  /** Called between items: waits when packs of tree nodes have to be written. */
  readonly drain: () => Promise<void>;
  readonly onWarning: (warning: CaptureWarning) => void;
  readonly stopped: () => boolean;
}

interface OpenFolder {
  readonly path: string;
  readonly live: TreeEntry;
  readonly entries: (TreeEntry | undefined)[];
  readonly parent: OpenFolder | undefined;
  readonly slot: number;
  /** Files and folders below whose entry is not there yet, plus one while the folder is being walked. */
  waiting: number;
}

interface WaitingFile {
  readonly folder: OpenFolder;
  readonly slot: number;
  readonly live: LiveEntry;
}

const batchFiles = 256;
const batchBytes = 8 << 20;

/** Walks a folder tree and stores it; resolves with the entry of its top folder. */
export class Capture {
  readonly progress: CaptureProgress = { items: 0, bytes: 0, read: 0, files: 0 };
  /** Folders left out because a target keeps its data there; byte strings below the root. */
  readonly leftOut: string[] = [];
  private jobs: FileJob[] = [];
  private jobBytes = 0;
  private jobFiles: WaitingFile[] = [];
  private readonly hardLinked = new Map<string, TreeEntry>();
  private top: TreeEntry | undefined;
  private rootDevice = 0;

  constructor(private readonly options: CaptureOptions) {}

  async run(): Promise<TreeEntry> {
    const { root, account, previous } = this.options;
    const stat = posix.asAccount(account, () => statEntry(root));
    if (!stat.isDirectory()) throw new EngineError('PATH_MISSING', 'the root of the source is not a folder');
    const live = describeEntry(root, '', stat);
    this.rootDevice = live.dev;
    const folder: OpenFolder = { path: '', live: storedForm(live), entries: [], parent: undefined, slot: 0, waiting: 1 };
    const names = posix.asAccount(account, () => listNames(root));
    await this.walk(folder, names, previous);
    await this.flush();
    await this.options.pool.idle();
    await this.options.drain();
    if (!this.top) throw new EngineError('TREE_DAMAGED', 'the walk ended without a top folder');
    return this.top;
  }

  private async walk(folder: OpenFolder, names: readonly string[], previous: TreeEntry | undefined): Promise<void> {
    const { options } = this;
    const before = previous?.folder ? await options.trees.folder(previous.folder.node) : [];
    let at = 0;
    for (const name of names) {
      if (options.stopped()) throw new EngineError('STOPPED');
      while (at < before.length && before[at]!.name < name) at++;
      const old = before[at]?.name === name ? before[at] : undefined;
      const path = joinPath(folder.path, name);
      const stat = this.look(path);
      if (!stat || options.filter.leftOut(path, stat.isDirectory())) continue;
      this.progress.items++;
      if (stat.isDirectory()) await this.enter(folder, path, name, stat, old);
      else await this.take(folder, path, name, stat, old);
    }
    this.settle(folder);
    await options.drain();
  }

  private look(path: string): BigIntStats | undefined {
    try {
      return posix.asAccount(this.options.account, () => statEntry(`${this.options.root}/${path}`));
    } catch (error) {
      const cause = systemCode(error) ?? String(error);
      this.options.onWarning({ code: cause === 'ENOENT' ? 'VANISHED' : 'UNREADABLE', path, cause });
      return undefined;
    }
  }

  private describe(path: string, name: string, stat: BigIntStats): LiveEntry {
    const live = posix.asAccount(this.options.account, () => describeEntry(`${this.options.root}/${path}`, name, stat));
    if (live.attributesFailed) this.options.onWarning({ code: 'ATTRIBUTES_UNREADABLE', path, cause: live.attributesFailed });
    return live;
  }

  private async enter(parent: OpenFolder, path: string, name: string, stat: BigIntStats, old: TreeEntry | undefined): Promise<void> {
    const { root, account, leftOutByItself, crossFileSystems } = this.options;
    const absolute = `${root}/${path}`;
    if (leftOutByItself.some((target) => isInside(absolute, target))) {
      this.leftOut.push(path);
      this.progress.items--;
      return;
    }
    const live = this.describe(path, name, stat);
    const slot = parent.entries.push(undefined) - 1;
    let names: string[] = [];
    if (crossFileSystems || live.dev === this.rootDevice) {
      try {
        names = posix.asAccount(account, () => listNames(absolute));
      } catch (error) {
        const cause = systemCode(error) ?? String(error);
        this.options.onWarning({ code: cause === 'ENOENT' ? 'VANISHED' : 'UNREADABLE', path, cause });
        if (cause !== 'ENOENT') parent.entries[slot] = { ...storedForm(live), unread: true };
        return;
      }
    }
    parent.waiting++;
    const folder: OpenFolder = { path, live: storedForm(live), entries: [], parent, slot, waiting: 1 };
    await this.walk(folder, names, old?.kind === 'folder' ? old : undefined);
  }

  private async take(folder: OpenFolder, path: string, name: string, stat: BigIntStats, old: TreeEntry | undefined): Promise<void> {
    const slot = folder.entries.push(undefined) - 1;
    if (stat.isFile()) this.progress.files++;
    if (old && unchanged(old, stat)) {
      folder.entries[slot] = old;
      this.progress.bytes += old.size;
      return;
    }
    const live = this.describe(path, name, stat);
    if (live.kind !== 'file' || live.size === 0) {
      folder.entries[slot] = storedForm(live);
      return;
    }
    const twin = live.hardId && this.hardLinked.get(live.hardId);
    if (twin && twin.ctimeNs === live.ctimeNs) {
      folder.entries[slot] = { ...twin, name };
      this.progress.bytes += live.size;
      return;
    }
    folder.waiting++;
    const absolute = `${this.options.root}/${path}`;
    this.jobs.push({ path: absolute, inode: live.inode, size: live.size, sparse: live.sparse, account: this.options.account });
    this.jobFiles.push({ folder, slot, live });
    this.jobBytes += live.size;
    if (this.jobs.length >= batchFiles || this.jobBytes >= batchBytes) await this.flush();
  }

  private async flush(): Promise<void> {
    if (!this.jobs.length) return;
    const files = this.jobFiles;
    const jobs = this.jobs;
    this.jobs = [];
    this.jobFiles = [];
    this.jobBytes = 0;
    await this.options.pool.submit(jobs, (results) => {
      for (const [i, result] of results.entries()) this.taken(files[i]!, result);
    });
    await this.options.drain();
  }

  private taken({ folder, slot, live }: WaitingFile, result: FileResult): void {
    const path = joinPath(folder.path, live.name);
    if (result.failed === 'ENOENT') this.options.onWarning({ code: 'VANISHED', path, cause: result.failed });
    else if (result.failed) {
      this.options.onWarning({ code: 'UNREADABLE', path, cause: result.failed });
      folder.entries[slot] = { ...storedForm(live), unread: true };
    } else {
      if (result.torn) this.options.onWarning({ code: 'CHANGED_WHILE_READ', path, cause: '' });
      const content = storeContent(this.options.put, { names: Buffer.from(result.names), lengths: result.lengths });
      const entry: TreeEntry = {
        ...storedForm(live),
        size: result.size,
        mtimeNs: result.mtimeNs,
        ctimeNs: result.ctimeNs,
        content,
        ...(result.ranges && { ranges: result.ranges }),
        ...(result.random && { random: true }),
        ...(result.torn && { torn: true }),
      };
      folder.entries[slot] = entry;
      if (entry.hardId) this.hardLinked.set(entry.hardId, entry);
      this.progress.bytes += result.size;
      this.progress.read += result.read;
    }
    this.settle(folder);
  }

  /** One thing less to wait for; a folder with nothing left is stored, and so on upwards. */
  private settle(folder: OpenFolder | undefined): void {
    for (let at = folder; at && --at.waiting === 0; at = at.parent) {
      const ref = writeFolder(
        this.options.put,
        at.entries.filter((e) => e !== undefined),
      );
      const entry: TreeEntry = { ...at.live, folder: ref };
      if (at.parent) at.parent.entries[at.slot] = entry;
      else this.top = entry;
    }
  }
}

function unchanged(old: TreeEntry, stat: BigIntStats): boolean {
  return (
    !old.unread &&
    !old.torn &&
    old.kind === 'file' &&
    stat.isFile() &&
    old.size === Number(stat.size) &&
    old.mtimeNs === stat.mtimeNs &&
    old.ctimeNs === stat.ctimeNs &&
    old.inode === Number(stat.ino)
  );
}
