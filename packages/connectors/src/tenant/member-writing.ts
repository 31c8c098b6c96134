import { joinPath } from '@lithodex/core';
import { byName, sameEntry, writeFolder, type StreamStored, type TreeEntry } from '@lithodex/engine';
import type { TenantCounts, TenantItem } from '@lithodex/kinds';
import type { PointWriting } from '../capture-store';
import type { CaptureContext } from '../connector';
import { ItemWriting } from '../item-writing';
import { withFacts, withState, type FolderState } from './item-facts';

const mode = 0o600;

/** What a capture of a member stores, and what it came to so far. */
export class MemberWriting extends ItemWriting {
  readonly counts: TenantCounts = { messages: 0, appointments: 0, contacts: 0, files: 0, days: 0 };
  private readonly at: bigint;

  constructor(ctx: CaptureContext, writing: PointWriting) {
    super(ctx, writing);
    this.at = BigInt(ctx.now()) * 1_000_000n;
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
