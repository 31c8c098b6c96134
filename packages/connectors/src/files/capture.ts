import { isInside, joinPath, type PathFilter } from '@lithodex/core';
import {
  ByteReader,
  EngineError,
  FolderBuilder,
  instantOf,
  packEntry,
  posix,
  readEntry,
  systemCode,
  type CrunchPool,
  type EntryCursor,
  type FileResult,
  type FolderRef,
  type PackedEntry,
  type PutChunk,
  type TreeEntry,
  type TreeReader,
} from '@lithodex/engine';
import type { Stats } from 'node:fs';
import { describeEntry, listNames, quickStat, statEntry, storedForm, type LiveEntry } from './folder-listing';
import { EarlierFolder, milliseconds, sameFile, sameFolder } from './earlier-folder';

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
  readonly builder: FolderBuilder;
  readonly parent: OpenFolder | undefined;
  readonly place: number;
  readonly earlier: EarlierFolder | undefined;
  /** Its entry in the earlier point. */
  readonly old: Buffer | undefined;
  /** Entries that are what they were in the earlier point. */
  kept: number;
  /** The node of the earlier point, when nothing in the folder has changed; known once the walk has left it. */
  unchanged: FolderRef | undefined;
  /** Files and folders below whose entry is not there yet, plus one while the folder is being walked. */
  waiting: number;
}

interface WaitingFile {
  readonly folder: OpenFolder;
  readonly place: number;
  readonly name: string;
}

const batchFiles = 256;
const batchBytes = 8 << 20;

/**
 * Walks a folder tree and stores it; resolves with the entry of its top folder. What is unchanged is taken over as the bytes it has in the earlier point; a folder
 * in which everything is unchanged keeps its node.
 */
export class Capture {
  readonly progress: CaptureProgress = { items: 0, bytes: 0, read: 0, files: 0 };
  /** Folders left out because a target keeps its data there; byte strings below the root. */
  readonly leftOut: string[] = [];
  private paths: string[] = [];
  private batchSize = 0;
  private files: WaitingFile[] = [];
  private readonly hardLinked = new Map<string, PackedEntry>();
  private top: TreeEntry | undefined;
  private rootDevice = 0;

  constructor(private readonly options: CaptureOptions) {}

  async run(): Promise<TreeEntry> {
    const { root, account, previous } = this.options;
    const stat = posix.asAccount(account, () => statEntry(root));
    if (!stat.isDirectory()) throw new EngineError('PATH_MISSING', 'the root of the source is not a folder');
    const live = describeEntry(root, '', stat);
    this.rootDevice = live.dev;
    const folder = this.open('', storedForm(live), undefined, 0, undefined, previous?.folder);
    const names = posix.asAccount(account, () => listNames(root));
    await this.walk(folder, names);
    await this.flush();
    await this.options.pool.idle();
    await this.options.drain();
    if (!this.top) throw new EngineError('TREE_DAMAGED', 'the walk ended without a top folder');
    return this.top;
  }

  private open(
    path: string,
    live: TreeEntry,
    parent: OpenFolder | undefined,
    place: number,
    old: Buffer | undefined,
    earlier: FolderRef | undefined,
  ): OpenFolder {
    return {
      path,
      live,
      builder: new FolderBuilder(this.options.put),
      parent,
      place,
      earlier: earlier && new EarlierFolder(this.options.trees, earlier),
      old,
      kept: 0,
      unchanged: undefined,
      waiting: 1,
    };
  }

  private async walk(folder: OpenFolder, names: readonly string[]): Promise<void> {
    const { options } = this;
    const { earlier } = folder;
    const base = `${options.root}/${folder.path}${folder.path === '' ? '' : '/'}`;
    for (const name of names) {
      if (options.stopped()) throw new EngineError('STOPPED');
      if (earlier && !earlier.reach(name)) await earlier.load(name);
      const old = earlier?.at(name);
      const absolute = base + name;
      const stat = this.look(folder, absolute, name);
      if (!stat || options.filter.leftOut(joinPath(folder.path, name), stat.isDirectory())) continue;
      this.progress.items++;
      if (stat.isDirectory()) await this.enter(folder, absolute, name, stat, old);
      else await this.take(folder, absolute, name, stat, old);
    }
    if (earlier && folder.kept === folder.builder.places && (await earlier.count()) === folder.kept) folder.unchanged = earlier.ref;
    this.settle(folder);
    await options.drain();
  }

  private look(folder: OpenFolder, absolute: string, name: string): Stats | undefined {
    try {
      return posix.asAccount(this.options.account, () => quickStat(absolute));
    } catch (error) {
      const cause = systemCode(error) ?? String(error);
      this.options.onWarning({ code: cause === 'ENOENT' ? 'VANISHED' : 'UNREADABLE', path: joinPath(folder.path, name), cause });
      return undefined;
    }
  }

  /** Everything about an entry; undefined when it has vanished meanwhile. */
  private describe(folder: OpenFolder, absolute: string, name: string): LiveEntry | undefined {
    try {
      const live = posix.asAccount(this.options.account, () => describeEntry(absolute, name, statEntry(absolute)));
      if (live.attributesFailed)
        this.options.onWarning({ code: 'ATTRIBUTES_UNREADABLE', path: joinPath(folder.path, name), cause: live.attributesFailed });
      return live;
    } catch (error) {
      this.options.onWarning({ code: 'VANISHED', path: joinPath(folder.path, name), cause: systemCode(error) ?? String(error) });
      return undefined;
    }
  }

  private async enter(parent: OpenFolder, absolute: string, name: string, stat: Stats, old: EntryCursor | undefined): Promise<void> {
    const { account, leftOutByItself, crossFileSystems } = this.options;
    const path = joinPath(parent.path, name);
    if (leftOutByItself.some((target) => isInside(absolute, target))) {
      this.leftOut.push(path);
      this.progress.items--;
      return;
    }
    const live = old && sameFolder(old, stat) ? readEntry(new ByteReader(old.bytes())) : this.describe(parent, absolute, name);
    if (!live) return;
    let names: string[] = [];
    if (crossFileSystems || stat.dev === this.rootDevice) {
      try {
        names = posix.asAccount(account, () => listNames(absolute));
      } catch (error) {
        const cause = systemCode(error) ?? String(error);
        this.options.onWarning({ code: cause === 'ENOENT' ? 'VANISHED' : 'UNREADABLE', path, cause });
        if (cause !== 'ENOENT') parent.builder.add(packEntry({ ...withoutFolder(live), unread: true }));
        return;
      }
    }
    parent.waiting++;
    const kept = old?.kind === 'folder' ? old.folder() : undefined;
    await this.walk(this.open(path, withoutFolder(live), parent, parent.builder.reserve(), old && Buffer.from(old.bytes()), kept), names);
  }

  private async take(folder: OpenFolder, absolute: string, name: string, stat: Stats, old: EntryCursor | undefined): Promise<void> {
    if (!stat.isFile()) {
      const live = this.describe(folder, absolute, name);
      if (!live) return;
      const packed = packEntry(storedForm(live));
      if (old?.bytes().equals(packed.data)) folder.kept++;
      folder.builder.add(packed);
      return;
    }
    this.progress.files++;
    if (old && sameFile(old, stat)) {
      folder.builder.add({ name, data: old.bytes(), items: 1, bytes: old.size });
      folder.kept++;
      this.progress.bytes += old.size;
      return;
    }
    if (stat.nlink > 1) {
      const twin = this.hardLinked.get(`${stat.dev}:${stat.ino}`);
      if (twin) {
        const entry = readEntry(new ByteReader(Buffer.from(twin.data)));
        const { seconds, nanos } = instantOf(entry.ctimeNs);
        if (milliseconds(seconds, nanos) === stat.ctimeMs) {
          folder.builder.add(packEntry({ ...entry, name }));
          this.progress.bytes += entry.size;
          return;
        }
      }
    }
    folder.waiting++;
    this.paths.push(absolute);
    this.files.push({ folder, place: folder.builder.reserve(), name });
    this.batchSize += stat.size;
    if (this.paths.length >= batchFiles || this.batchSize >= batchBytes) await this.flush();
  }

  private async flush(): Promise<void> {
    if (!this.paths.length) return;
    const { files, paths } = this;
    this.paths = [];
    this.files = [];
    this.batchSize = 0;
    await this.options.pool.submit({ paths, account: this.options.account }, (result, at) => {
      this.taken(files[at]!, result);
    });
    await this.options.drain();
  }

  private taken({ folder, place, name }: WaitingFile, result: FileResult): void {
    const warn = (code: CaptureWarningCode, cause: string) => {
      this.options.onWarning({ code, path: joinPath(folder.path, name), cause });
    };
    if ('failed' in result) {
      const gone = result.failed === 'ENOENT';
      warn(gone ? 'VANISHED' : 'UNREADABLE', result.failed);
      const live = gone ? undefined : this.describe(folder, `${this.options.root}/${joinPath(folder.path, name)}`, name);
      folder.builder.fill(place, live ? packEntry({ ...storedForm(live), unread: true }) : null);
    } else {
      if (result.torn) warn('CHANGED_WHILE_READ', '');
      if (result.attributesFailed) warn('ATTRIBUTES_UNREADABLE', result.attributesFailed);
      const packed = { name, data: result.entry, items: 1, bytes: result.size };
      if (result.hardId) this.hardLinked.set(result.hardId, { ...packed, data: Buffer.from(result.entry) });
      folder.builder.fill(place, packed);
      this.progress.bytes += result.size;
      this.progress.read += result.read;
    }
    this.settle(folder);
  }

  /** One thing less to wait for; a folder with nothing left is stored, and so on upwards. */
  private settle(folder: OpenFolder | undefined): void {
    for (let at = folder; at && --at.waiting === 0; at = at.parent) {
      const entry: TreeEntry = { ...at.live, folder: at.unchanged ?? at.builder.finish() };
      if (!at.parent) {
        this.top = entry;
        continue;
      }
      const packed = packEntry(entry);
      if (at.old?.equals(packed.data)) at.parent.kept++;
      at.parent.builder.fill(at.place, packed);
    }
  }
}

function withoutFolder(entry: TreeEntry | LiveEntry): TreeEntry {
  const { folder: _folder, ...rest } = 'dev' in entry ? storedForm(entry) : entry;
  return rest;
}
