import { ByteWriter } from '../format/byte-io';
import { writeContent, writeEntry, type Content, type ContentList, type FolderRef, type TreeEntry } from './tree-entry';

/** First byte of a node: entries, or a list of pieces. */
export const nodeKind = { leaf: 0, list: 1 } as const;
const pieceEntries = 4096;
const pieceBytes = 1 << 20;
const directNames = 256;
/** Names in a list chunk, but for the last one of a file. */
export const namesPerList = 16384;

/** Stores what `put` is given and returns its name; see {@link ChunkWriter.put}. */
export type PutChunk = (data: Uint8Array) => Buffer;

/** FNV-1a of a name: decides where a large folder is cut, so that a change moves only the cut beside it. */
function nameHash(name: string): number {
  let h = 0x811c9dc5;
  for (let i = 0; i < name.length; i++) h = Math.imul(h ^ name.charCodeAt(i), 0x01000193);
  return h >>> 0;
}

/** An entry as the bytes a node holds, with what its folder sums up. */
export interface PackedEntry {
  /** Byte string. */
  readonly name: string;
  readonly data: Uint8Array;
  /** The entry and everything below it. */
  readonly items: number;
  /** Bytes of the file, or of all files below. */
  readonly bytes: number;
}

const packing = new ByteWriter();

export function packEntry(e: TreeEntry): PackedEntry {
  packing.clear();
  writeEntry(packing, e);
  return { name: e.name, data: packing.take(), items: 1 + (e.folder?.items ?? 0), bytes: e.size + (e.folder?.bytes ?? 0) };
}

/**
 * Builds the node of one folder from entries that arrive in any order: places are reserved in the order of names, and what is complete from the front on is
 * written soon, so that a folder of any size takes little memory. The bytes of entries must stand until then.
 */
export class FolderBuilder {
  private readonly pieces: { first: string; count: number; node: Buffer }[] = [];
  private readonly body = new ByteWriter();
  private readonly waiting = new Map<number, PackedEntry | null>();
  /** Complete from the front on, and not written yet: of a folder that has not changed, nothing ever is. */
  private complete: PackedEntry[] = [];
  private reserved = 0;
  private front = 0;
  private first = '';
  private count = 0;
  private items = 0;
  private bytes = 0;

  constructor(private readonly put: PutChunk) {}

  /** Places reserved so far. */
  get places(): number {
    return this.reserved;
  }

  /** A place for the next entry by name. */
  reserve(): number {
    return this.reserved++;
  }

  /** Fills a place; null leaves it empty. */
  fill(place: number, entry: PackedEntry | null): void {
    if (place !== this.front) {
      this.waiting.set(place, entry);
      return;
    }
    for (let next: PackedEntry | null | undefined = entry; next !== undefined; next = this.waiting.get(this.front)) {
      this.waiting.delete(this.front);
      this.front++;
      if (!next) continue;
      this.complete.push(next);
      if (this.complete.length >= pieceEntries) this.write();
    }
  }

  /** Adds the next entry by name. */
  add(entry: PackedEntry): void {
    this.fill(this.reserve(), entry);
  }

  private write(): void {
    const { complete } = this;
    this.complete = [];
    for (const entry of complete) this.append(entry);
  }

  private append(entry: PackedEntry): void {
    if (this.count === 0) this.first = entry.name;
    this.body.bytes(entry.data);
    this.count++;
    this.items += entry.items;
    this.bytes += entry.bytes;
    if ((nameHash(entry.name) & 0x3ff) === 0 || this.count >= pieceEntries || this.body.length >= pieceBytes) this.close();
  }

  private close(): void {
    const w = new ByteWriter();
    w.u8(nodeKind.leaf);
    w.varint(this.count);
    w.bytes(this.body.view());
    this.pieces.push({ first: this.first, count: this.count, node: this.put(w.view()) });
    this.body.clear();
    this.count = 0;
    this.first = '';
  }

  /** Stores what is left. Every place must have been filled. */
  finish(): FolderRef {
    if (this.front !== this.reserved) throw new RangeError('a folder with places not filled');
    this.write();
    if (this.count > 0 || this.pieces.length === 0) this.close();
    const { items, bytes } = this;
    if (this.pieces.length === 1) return { node: this.pieces[0]!.node, items, bytes };
    const list = new ByteWriter();
    list.u8(nodeKind.list);
    list.varint(this.pieces.length);
    for (const piece of this.pieces) {
      list.text(piece.first);
      list.varint(piece.count);
      list.bytes(piece.node);
    }
    return { node: this.put(list.view()), items, bytes };
  }
}

/** Stores one folder from its entries, which must be sorted by name. */
export function writeFolder(put: PutChunk, entries: readonly TreeEntry[]): FolderRef {
  const builder = new FolderBuilder(put);
  for (const entry of entries) builder.add(packEntry(entry));
  return builder.finish();
}

/** Content as an entry holds it: short lists directly, long ones through list chunks. */
export function storeContent(put: PutChunk, content: Content): Content | ContentList {
  const count = content.lengths.length;
  if (count <= directNames) return content;
  const lists: Buffer[] = [];
  for (let from = 0; from < count; from += namesPerList) {
    const w = new ByteWriter();
    const to = Math.min(count, from + namesPerList);
    writeContent(w, { names: content.names.subarray(from * 32, to * 32), lengths: content.lengths.slice(from, to) });
    lists.push(put(w.view()));
  }
  return { lists: Buffer.concat(lists), count };
}
