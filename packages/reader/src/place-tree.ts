import fs from 'node:fs';
import path from 'node:path';
import { escapePath, toBytes } from '@lithodex/core';
import type { Root, Store, TreeEntry } from '@lithodex/engine';

export interface Placed {
  items: number;
  bytes: number;
  failed: number;
}
type Say = (line: string) => void;

/** What belongs to several names is made once. */
type Made = Map<string, Buffer>;

const asPath = (folder: Buffer, name: string): Buffer => Buffer.concat([folder, Buffer.from('/'), toBytes(name)]);
/** A name that leads nowhere else: what is stored is not believed. */
const leadsNowhere = (name: string) => name !== '' && name !== '.' && name !== '..' && !/[/\0]/.test(name);
const isRoot = process.getuid?.() === 0;

/** Brings a stored tree into a folder that is new, so that nothing that is there is followed or written over. */
export class TreePlacer {
  readonly placed: Placed = { items: 0, bytes: 0, failed: 0 };
  private readonly made: Made = new Map();
  private skippedAttributes = false;

  constructor(
    private readonly store: Store,
    private readonly say: Say,
  ) {}

  /** Brings an entry, and all below it, below `folder`. */
  async place(entry: TreeEntry, folder: Buffer, shown: string): Promise<void> {
    if (!leadsNowhere(entry.name)) {
      this.failed(shown, 'its name leads elsewhere');
      return;
    }
    const at = asPath(folder, entry.name);
    const below = shown === '' ? entry.name : `${shown}/${entry.name}`;
    try {
      await this.make(entry, at, below);
      this.placed.items++;
    } catch (error) {
      this.failed(below, error instanceof Error ? error.message : String(error));
    }
  }

  /** What a folder holds. */
  async placeChildren(entry: TreeEntry, at: Buffer, shown: string): Promise<void> {
    if (entry.folder)
      for await (const pieces of this.store.trees.pieces(entry.folder.node)) for (const child of pieces) await this.place(child, at, shown);
  }

  private failed(shown: string, why: string): void {
    this.placed.failed++;
    this.say(`failed: ${escapePath(shown)}: ${why}`);
  }

  private async make(entry: TreeEntry, at: Buffer, shown: string): Promise<void> {
    const earlier = entry.hardId === undefined ? undefined : this.made.get(entry.hardId);
    if (earlier) {
      fs.linkSync(earlier, at);
      return;
    }
    switch (entry.kind) {
      case 'folder':
        fs.mkdirSync(at, { mode: 0o700 });
        await this.placeChildren(entry, at, shown);
        break;
      case 'file':
        await this.file(entry, at);
        break;
      case 'link':
        fs.symlinkSync(Buffer.from(toBytes(entry.linkTarget ?? '')), at);
        if (isRoot) fs.lchownSync(at, entry.uid, entry.gid);
        return;
      default:
        throw new Error(`a ${entry.kind} is not made by this reader`);
    }
    if (entry.hardId !== undefined) this.made.set(entry.hardId, at);
    this.facts(entry, at);
    if (entry.unread) this.say(`not read when the point was taken: ${escapePath(shown)}`);
  }

  private facts(entry: TreeEntry, at: Buffer): void {
    if (isRoot) fs.lchownSync(at, entry.uid, entry.gid);
    fs.chmodSync(at, entry.mode);
    const seconds = Number(entry.mtimeNs / 1000n) / 1e6;
    // Node takes a negative number for now, but not a date
    const time = seconds < 0 ? new Date(seconds * 1000) : seconds;
    fs.utimesSync(at, time, time);
    if (entry.attributes?.length && !this.skippedAttributes) {
      this.skippedAttributes = true;
      this.say('Attributes and access lists of files are not brought back by this reader.');
    }
  }

  private async file(entry: TreeEntry, at: Buffer): Promise<void> {
    const fd = fs.openSync(at, 'wx', 0o600);
    try {
      const ranges = entry.ranges ?? [[0, entry.size] as const];
      let [range, done] = [0, 0];
      for await (const { names, lengths } of this.store.trees.contentParts(entry.content))
        for (let i = 0; i < lengths.length; i++) {
          const data = await this.store.reader.read(names.subarray(32 * i, 32 * i + 32));
          for (let from = 0; from < data.length;) {
            while (done > 0 && done === ranges[range]?.[1]) [range, done] = [range + 1, 0];
            const [offset, length] = ranges[range] ?? [0, 0];
            const now = Math.min(data.length - from, length - done);
            if (now <= 0) throw new Error('there is more of it than its size says');
            fs.writeSync(fd, data, from, now, offset + done);
            from += now;
            done += now;
          }
          this.placed.bytes += data.length;
        }
      fs.ftruncateSync(fd, entry.size);
    } finally {
      fs.closeSync(fd);
    }
  }
}

/** The entry at a path of a point. Throws when there is none. */
export async function entryAt(store: Store, root: Root, top: TreeEntry, where: string): Promise<TreeEntry> {
  let entry = top;
  for (const name of where.split('/').filter(Boolean)) {
    let found: TreeEntry | undefined;
    if (entry.folder)
      for await (const piece of store.trees.pieces(entry.folder.node)) {
        found = piece.find((e) => e.name === name);
        if (found) break;
      }
    if (!found) throw new Error(`${root.workload.name} has no ${escapePath(where)} in this point`);
    entry = found;
  }
  return entry;
}

/** A folder that is made, or is there and empty. Throws where something is in it. */
export function newFolder(folder: string): Buffer {
  const at = path.resolve(folder);
  fs.mkdirSync(at, { recursive: true });
  if (fs.readdirSync(at).length) throw new Error(`${at} is not empty: this reader writes over nothing. Name a folder that is new.`);
  return Buffer.from(at);
}
