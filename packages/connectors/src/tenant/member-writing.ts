import { createHash } from 'node:crypto';
import { escapePath, joinPath, pathFilter, type PathFilter } from '@lithodex/core';
import {
  byName,
  EngineError,
  sameEntry,
  storeContent,
  StreamContent,
  writeFolder,
  type SegmentDone,
  type StreamStored,
  type TreeEntry,
} from '@lithodex/engine';
import type { TenantCounts, TenantItem } from '@lithodex/kinds';
import type { PointWriting } from '../capture-store';
import type { CaptureContext } from '../connector';
import { withFacts, withState, type FolderState } from './item-facts';

const mode = 0o600;

/** What a capture of a member stores, and what it came to so far. */
export class MemberWriting {
  readonly counts: TenantCounts = { messages: 0, appointments: 0, contacts: 0, files: 0, days: 0 };
  readonly progress = { items: 0, bytes: 0, read: 0, files: 0 };
  warnings = 0;
  private readonly filter: PathFilter;
  private readonly at: bigint;
  /** Whether anything is left out by a rule. */
  private readonly filters: boolean;

  constructor(
    readonly ctx: CaptureContext,
    private readonly writing: PointWriting,
  ) {
    this.filter = pathFilter(ctx.include, ctx.exclude);
    this.filters = ctx.include.length + ctx.exclude.length > 0;
    this.at = BigInt(ctx.now()) * 1_000_000n;
  }

  /** Throws STOPPED when it is to end. */
  goOn(): void {
    if (this.ctx.stopped()) throw new EngineError('STOPPED');
  }

  leftOut(path: string, isFolder: boolean): boolean {
    return this.filter.leftOut(path, isFolder);
  }

  warn(code: string, path: string, message: string, missing: boolean): void {
    this.warnings++;
    this.ctx.warn({ code, path: path === '' ? '' : escapePath(path), message, missing });
  }

  note(code: string, path: string, message: string): void {
    this.ctx.note({ code, path: path === '' ? '' : escapePath(path), message });
  }

  /** Entries of a folder of the point before; none where there is none. */
  async before(folder: TreeEntry | undefined): Promise<TreeEntry[]> {
    return folder?.folder ? this.ctx.store.trees.folder(folder.folder.node) : [];
  }

  /** Entries of the folders in a folder of the point before. */
  async foldersBefore({ folder }: TreeEntry): Promise<TreeEntry[]> {
    const found: TreeEntry[] = [];
    if (folder) for await (const piece of this.ctx.store.trees.pieces(folder.node)) found.push(...piece.filter((e) => e.kind === 'folder'));
    return found;
  }

  /** A folder that can stay as it was stored, with what was written of the folders in it; undefined where it has to be written again. */
  keptFolder(
    before: {
      readonly entry: TreeEntry;
      readonly folders: readonly TreeEntry[];
      readonly written: readonly TreeEntry[];
      readonly messages: number;
    },
    state: FolderState | undefined,
  ): TreeEntry | undefined {
    const { entry, folders, written, messages } = before;
    const { attributes: _, ...rest } = entry;
    const own = state ? { ...rest, attributes: withState(state) } : rest;
    const [was, is] = [folders, [...written].sort(byName)];
    const same = was.length === is.length && was.every((f, i) => f.name === is[i]!.name && sameEntry(f, is[i]!));
    if (!same || this.filters || !entry.folder || !sameEntry(entry, own)) return undefined;
    this.counts.messages += messages;
    this.progress.items += messages + 1;
    this.progress.files += messages;
    this.progress.bytes += entry.folder.bytes - is.reduce((sum, f) => sum + (f.folder?.bytes ?? 0), 0);
    return entry;
  }

  /** Stores what is in memory; `cuts`: where pieces of it begin that may be found again. */
  async content(data: Buffer, cuts: readonly number[] = []): Promise<StreamStored> {
    const { pool, put } = this.writing;
    const pieces: Promise<SegmentDone>[] = [];
    let from = 0;
    for (const cut of [...cuts, data.length].sort((a, b) => a - b)) {
      if (cut <= from) continue;
      // the threads get memory of their own, no larger than it has to be
      const own = Buffer.allocUnsafeSlow(cut - from);
      data.copy(own, 0, from, cut);
      from = cut;
      const { done } = await pool.segment(own);
      // told where it is waited for
      done.catch(() => undefined);
      pieces.push(done);
    }
    this.moved(data.length);
    const done = await Promise.all(pieces);
    const content = { names: Buffer.concat(done.map((d) => d.names)), lengths: done.flatMap((d) => [...d.lengths]) };
    const stored = content.lengths.length > 0 && { content: storeContent(put, content) };
    return { size: data.length, random: done[0]?.random ?? false, ...stored };
  }

  /** Stores what comes piece by piece. Gives its SHA-256 as well. */
  async streamed(pieces: AsyncIterable<Uint8Array>): Promise<StreamStored & { readonly sum: string }> {
    const stream = new StreamContent(this.writing.pool, this.writing.put);
    const sum = createHash('sha256');
    for await (const piece of pieces) {
      this.goOn();
      sum.update(piece);
      await stream.write(piece);
      this.moved(piece.length);
      await this.writing.drain();
    }
    return { ...(await stream.finish()), sum: sum.digest('hex') };
  }

  private moved(bytes: number): void {
    this.progress.read += bytes;
    this.progress.bytes += bytes;
  }

  /** Lets tree nodes go out and tells how far it is. */
  async passed(): Promise<void> {
    await this.writing.drain();
    this.ctx.progress(this.progress, this.writing.packed);
  }

  /** An item that was read. `mtimeMs`: null for now. */
  item(name: string, { size, content, random }: StreamStored, mtimeMs: number | null, facts: TenantItem | undefined): TreeEntry {
    this.count(facts);
    const mtimeNs = mtimeMs === null ? this.at : BigInt(Math.trunc(mtimeMs)) * 1_000_000n;
    return {
      ...plain(name, 'file'),
      mtimeNs,
      size,
      ...(content && { content }),
      ...(random && { random }),
      ...(facts && { attributes: withFacts(facts) }),
    };
  }

  /** An item that is as it was, but for what may be known of it. */
  reused(entry: TreeEntry, facts: TenantItem | undefined): TreeEntry {
    this.count(facts);
    this.progress.bytes += entry.size;
    const { unread: _, ...own } = entry;
    return facts ? { ...own, attributes: withFacts(facts) } : own;
  }

  /** Messages of a folder that is as it was: what is known of each does not have to be read. */
  reusedMessages(entries: readonly TreeEntry[], folder: string): TreeEntry[] {
    const all = entries.filter((e) => !this.leftOut(joinPath(folder, e.name), false)).map((e) => this.reused(e, undefined));
    this.counts.files -= all.length;
    this.counts.messages += all.length;
    return all;
  }

  /** What stays as it was, with all that is in it. */
  kept({ items, bytes }: { readonly items: number; readonly bytes: number }, as: keyof TenantCounts, count: number): void {
    this.counts[as] += count;
    this.progress.items += items;
    this.progress.files += count;
    this.progress.bytes += bytes;
  }

  private count(facts: TenantItem | undefined): void {
    this.progress.items++;
    this.progress.files++;
    const { counts } = this;
    if (facts?.type === 'message') counts.messages++;
    else if (facts?.type === 'appointment') counts.appointments++;
    else if (facts?.type === 'contact') counts.contacts++;
    else if (facts?.type === 'day') counts.days++;
    else counts.files++;
  }

  /** Stores a folder. */
  async folder(name: string, entries: TreeEntry[], state?: FolderState): Promise<TreeEntry> {
    const folder = writeFolder(this.writing.put, entries.sort(byName));
    this.progress.items++;
    await this.passed();
    return {
      ...plain(name, 'folder'),
      folder,
      ...(state && { attributes: withState(state) }),
    };
  }

  /** A folder that could not be looked at: nothing is known of what was in it. */
  unread(name: string): TreeEntry {
    return { ...plain(name, 'folder'), unread: true };
  }
}

function plain(name: string, kind: 'file' | 'folder'): TreeEntry {
  return { name, kind, mode: kind === 'file' ? mode : 0o700, uid: 0, gid: 0, mtimeNs: 0n, ctimeNs: 0n, inode: 0, size: 0 };
}

/** Gives names that are not taken yet. */
export class FreeNames {
  private readonly taken = new Set<string>();

  take(name: string): void {
    this.taken.add(name);
  }

  /** @param stem what comes before `ending`, byte strings */
  free(stem: string, ending: string): string {
    let name = stem + ending;
    for (let n = 2; this.taken.has(name); n++) name = `${stem}.${n}${ending}`;
    this.taken.add(name);
    return name;
  }
}
