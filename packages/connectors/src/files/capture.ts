import { isInside, joinPath } from '@lithodex/core';
import {
  ByteReader,
  closeFile,
  EngineError,
  FileFacts,
  FolderBuilder,
  instantOf,
  packEntry,
  readEntry,
  systemCode,
  weightOf,
  wholeLimit,
  type EntryCursor,
  type FileResult,
  type FolderJobs,
  type FolderRef,
  type PackedEntry,
  type TreeEntry,
} from '@lithodex/engine';
import type { CaptureProgress } from '../connector';
import type { CaptureOptions, CaptureWarningCode } from './capture-options';
import { describeIn, describeOpen, storedForm, type LiveEntry } from './folder-listing';
import { earlierChunks, isOtherContent } from './earlier-content';
import { LiveTree, type Listing } from './live-tree';
import type { FolderBatch, FolderBelow, OpenFolder, WaitingFile } from './captured-folder';
import { EarlierFolder, sameFile, sameFolder } from './earlier-folder';
import { FactsAhead } from './facts-ahead';
import { scoutThread } from '../pools';
import { Scout, type Scouted } from './scout';

const batchFiles = 256;
/** So many items make a walk long enough to be worth another thread. */
const longWalk = 2000;
const batchBytes = 8 << 20;

/**
 * Walks a folder tree and stores it; resolves with the entry of its top folder. What is unchanged is taken over as the bytes it has in the earlier point; a folder
 * in which everything is unchanged keeps its node.
 */
export class Capture {
  readonly progress: CaptureProgress = { items: 0, bytes: 0, read: 0, files: 0 };
  /** What was left out because a target keeps its data there, or the mover its own things; byte strings below the root. */
  readonly leftOut: string[] = [];
  /** Of the entry that is looked at. */
  private readonly facts = new FileFacts();
  private readonly ahead = new FactsAhead();
  private batch: FolderBatch[] = [];
  private batchSize = 0;
  private files: WaitingFile[] = [];
  private readonly hardLinked = new Map<string, PackedEntry>();
  private top: TreeEntry | undefined;
  private rootDevice = 0;
  /** Lists folders ahead, in a walk that has shown to be long. */
  private readonly scout: Scout;

  private readonly tree: LiveTree;

  /** Throws what the top folder can't be opened for. */
  constructor(private readonly options: CaptureOptions) {
    this.tree = LiveTree.open(options.root, options.readAs, options.limits);
    this.scout = new Scout(this.tree, scoutThread);
  }

  /** To be called once, after which the source is closed. */
  async run(): Promise<TreeEntry> {
    try {
      return await this.all();
    } finally {
      this.scout.end();
      await this.options.pool.idle().catch(() => undefined);
      this.tree.close();
    }
  }

  private async all(): Promise<TreeEntry> {
    const live = this.tree.inFolder('', (fd) => describeOpen(fd, ''));
    this.rootDevice = live.dev;
    const folder = this.open('', storedForm(live), undefined, 0, undefined, this.options.previous?.folder);
    await this.walk(folder, this.tree.list(''));
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

  /** Goes through a folder, given open, which is closed here; then through those in it. */
  private async walk(folder: OpenFolder, listing: Listing | Scouted): Promise<void> {
    const { earlier, builder } = folder;
    let below: FolderBelow[];
    try {
      below = await this.entries(folder, listing);
    } finally {
      if ('fd' in listing) closeFile(listing.fd);
    }
    this.scout.foresee(below.map(({ name }) => joinPath(folder.path, name)));
    for (const sub of below) await this.enter(folder, sub);
    this.scout.passed();
    if (earlier && !this.options.rereads && folder.kept === builder.places && (await earlier.count()) === folder.kept)
      folder.unchanged = earlier.ref;
    this.settle(folder);
    await this.options.drain();
    await this.options.pool.breathe();
  }

  /** Takes what is in an open folder and returns the folders among it. */
  private async entries(folder: OpenFolder, listing: Listing | Scouted): Promise<FolderBelow[]> {
    const { options } = this;
    const { names } = listing;
    const { earlier } = folder;
    const below: FolderBelow[] = [];
    const own = this.tree.ownNames(folder.path);
    for (let i = 0; i < names.length; i++) {
      const name = names[i]!;
      if (options.stopped()) throw new EngineError('STOPPED');
      const failed = 'fd' in listing ? this.ahead.at(this.tree, listing.fd, names, i, this.facts) : listing.at(i, this.facts);
      const { facts } = this;
      if (own?.has(name)) {
        this.leftOut.push(joinPath(folder.path, name));
        continue;
      }
      if (earlier && !earlier.reach(name)) await earlier.load(name);
      const old = earlier?.at(name);
      if (!this.isThere(folder, name, failed) || options.filter.leftOut(joinPath(folder.path, name), facts.isFolder)) continue;
      if (facts.isFolder) {
        const found = this.folderBelow(folder, name, old);
        if (!found) continue;
        below.push(found);
      } else {
        // a promise for every file takes longer than looking at it
        const waits = this.take(folder, name, old);
        if (waits) await waits;
      }
      this.progress.items++;
    }
    return below;
  }

  private isThere(folder: OpenFolder, name: string, failed: Error | undefined): boolean {
    if (failed === undefined) return true;
    const cause = systemCode(failed) ?? failed.message;
    this.options.onWarning({ code: cause === 'ENOENT' ? 'VANISHED' : 'UNREADABLE', path: joinPath(folder.path, name), cause });
    return false;
  }

  /** Everything about an entry; undefined when it has vanished meanwhile. */
  private describe(folder: OpenFolder, name: string): LiveEntry | undefined {
    return this.described(folder, name, () => this.tree.inFolder(folder.path, (fd) => describeIn(fd, name)));
  }

  private described(folder: OpenFolder, name: string, look: () => LiveEntry | undefined): LiveEntry | undefined {
    const path = joinPath(folder.path, name);
    let cause = 'ENOENT';
    try {
      const live = look();
      if (live?.attributesFailed) this.options.onWarning({ code: 'ATTRIBUTES_UNREADABLE', path, cause: live.attributesFailed });
      if (live) return live;
    } catch (error) {
      cause = systemCode(error) ?? String(error);
    }
    this.options.onWarning({ code: 'VANISHED', path, cause });
    return undefined;
  }

  /** What is to be read of a folder in the batch being gathered. */
  private jobs(folder: OpenFolder): FolderBatch {
    let last = this.batch.at(-1);
    if (last?.folder !== folder) {
      last = { folder, path: folder.path, names: [], earlier: new Map() };
      this.batch.push(last);
    }
    return last;
  }

  private folderBelow(parent: OpenFolder, name: string, old: EntryCursor | undefined): FolderBelow | undefined {
    const { leftOutByItself } = this.options;
    const { facts } = this;
    if (leftOutByItself.length) {
      const absolute = this.tree.at(joinPath(parent.path, name));
      if (leftOutByItself.some((target) => isInside(absolute, target))) {
        this.leftOut.push(joinPath(parent.path, name));
        return undefined;
      }
    }
    const bytes = old && Buffer.from(old.bytes());
    parent.waiting++;
    return {
      name,
      place: parent.builder.reserve(),
      live: old && bytes && !this.options.rereads && sameFolder(old, facts) ? withoutFolder(readEntry(new ByteReader(bytes))) : undefined,
      device: facts.device,
      old: bytes,
      earlier: old?.kind === 'folder' ? old.folder() : undefined,
    };
  }

  private async enter(parent: OpenFolder, { name, place, live: known, device, old, earlier }: FolderBelow): Promise<void> {
    const path = joinPath(parent.path, name);
    const leave = (entry: TreeEntry | undefined) => {
      const packed = entry ? packEntry(entry) : null;
      if (packed && old?.equals(packed.data)) parent.kept++;
      parent.builder.fill(place, packed);
      this.settle(parent);
    };
    const vanished = (cause: string) => {
      this.options.onWarning({ code: 'VANISHED', path, cause });
      leave(undefined);
    };
    const lookedAt = () => known ?? this.describe(parent, name);
    if (!this.options.crossFileSystems && device !== this.rootDevice) {
      const live = lookedAt();
      leave(live && { ...withoutFolder(live), folder: new FolderBuilder(this.options.put).finish() });
      return;
    }
    let listing: Listing | Scouted;
    try {
      listing = this.scouted(path) ?? this.tree.list(path);
    } catch (error) {
      const cause = systemCode(error) ?? String(error);
      if (cause === 'ENOENT') vanished(cause);
      else if (cause === 'ELOOP' || cause === 'ENOTDIR') vanished('REPLACED');
      else {
        this.options.onWarning({ code: 'UNREADABLE', path, cause });
        const live = lookedAt();
        leave(live && { ...withoutFolder(live), unread: true });
      }
      return;
    }
    const look = () =>
      'fd' in listing ? this.tree.run(() => describeOpen(listing.fd, name)) : this.tree.inFolder(path, (fd) => describeOpen(fd, name));
    const live = known ?? this.described(parent, name, look);
    if (live) await this.walk(this.open(path, withoutFolder(live), parent, place, old, earlier), listing);
    else {
      if ('fd' in listing) closeFile(listing.fd);
      leave(undefined);
    }
  }

  private scouted(path: string): Scouted | undefined {
    // where everything is read, that is what takes long
    if (this.options.previous && !this.options.rereads && this.progress.items >= longWalk) this.scout.begin();
    const found = this.scout.take(path);
    if (found) this.tree.checkOwn(path);
    return found;
  }

  /** Takes what is no folder; gives something to wait for where it has to be read. */
  private take(folder: OpenFolder, name: string, old: EntryCursor | undefined): Promise<void> | undefined {
    const { facts, options } = this;
    if (!facts.isFile) {
      const live = this.describe(folder, name);
      if (!live) return undefined;
      const packed = packEntry(storedForm(live));
      if (old?.bytes().equals(packed.data)) folder.kept++;
      folder.builder.add(packed);
      return undefined;
    }
    this.progress.files++;
    const same = old !== undefined && sameFile(old, facts);
    if (same && !options.rereads) {
      folder.builder.add({ name, data: old.bytes(), items: 1, bytes: old.size });
      folder.kept++;
      this.progress.bytes += old.size;
      return undefined;
    }
    if (facts.links > 1) {
      const twin = this.hardLinked.get(`${facts.device}:${facts.inode}`);
      if (twin) {
        const entry = readEntry(new ByteReader(Buffer.from(twin.data)));
        const { seconds, nanos } = instantOf(entry.ctimeNs);
        if (nanos === facts.ctimeNanos && seconds === facts.ctimeSeconds) {
          folder.builder.add(packEntry({ ...entry, name }));
          this.progress.bytes += entry.size;
          return undefined;
        }
      }
    }
    return this.willRead(folder, name, old, same);
  }

  private async willRead(folder: OpenFolder, name: string, old: EntryCursor | undefined, same: boolean): Promise<void> {
    const { facts, options } = this;
    folder.waiting++;
    const jobs = this.jobs(folder);
    jobs.names.push(name);
    const earlier = old && facts.size > wholeLimit ? await earlierChunks(options.trees, old) : undefined;
    if (earlier) jobs.earlier.set(name, earlier);
    this.files.push({ folder, place: folder.builder.reserve(), name, same: same && old ? Buffer.from(old.bytes()) : undefined });
    this.batchSize += facts.size;
    if (this.files.length >= batchFiles || this.batchSize >= batchBytes) await this.flush();
  }

  private async flush(): Promise<void> {
    if (!this.files.length) return;
    const { files } = this;
    const weight = weightOf(files.length, this.batchSize);
    const folders = this.batch.map(({ path, names, earlier }): FolderJobs => ({ path, names, ...(earlier.size && { earlier }) }));
    this.batch = [];
    this.files = [];
    this.batchSize = 0;
    await this.options.pool.submit({ top: this.tree.top, folders, account: this.tree.account }, weight, (result, at) => {
      this.taken(files[at]!, result);
    });
    await this.options.drain();
  }

  private taken({ folder, place, name, same }: WaitingFile, result: FileResult): void {
    const warn = (code: CaptureWarningCode, cause: string) => {
      this.options.onWarning({ code, path: joinPath(folder.path, name), cause });
    };
    if ('failed' in result) {
      const gone = result.failed === 'ENOENT';
      warn(gone ? 'VANISHED' : 'UNREADABLE', result.failed);
      const live = gone ? undefined : this.describe(folder, name);
      folder.builder.fill(place, live ? packEntry({ ...storedForm(live), unread: true }) : null);
    } else {
      if (result.torn) warn('CHANGED_WHILE_READ', '');
      else if (same && isOtherContent(same, result.entry)) warn('CHANGED_UNSEEN', '');
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
