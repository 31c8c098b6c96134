import { instantOf, type ByteReader, type ByteWriter, type Instant } from '../format/byte-io';

export const itemKinds = ['file', 'folder', 'link', 'fifo', 'char', 'block', 'socket'] as const;
export type ItemKind = (typeof itemKinds)[number];

/** Chunks of a file in order: names (32 bytes each) and lengths. Sparse files hold their data ranges only. */
export interface Content {
  readonly names: Buffer;
  readonly lengths: readonly number[];
}

/** Large files name their chunks through list chunks. */
export interface ContentList {
  /** Names of the list chunks, 32 bytes each. */
  readonly lists: Buffer;
  readonly count: number;
}

export interface TreeEntry {
  /** Byte string. */
  readonly name: string;
  readonly kind: ItemKind;
  /** Permission bits with setuid, setgid and sticky (no type bits). */
  readonly mode: number;
  readonly uid: number;
  readonly gid: number;
  readonly mtimeNs: bigint;
  readonly ctimeNs: bigint;
  readonly inode: number;
  /** Bytes of a file; 0 for others. */
  readonly size: number;
  /** Could not be read: not looked at in this point. */
  readonly unread?: boolean;
  /** The content looks random. */
  readonly random?: boolean;
  /** Changed while it was read; what was read is kept. */
  readonly torn?: boolean;
  /** Byte string. */
  readonly linkTarget?: string;
  readonly device?: number;
  /** Same for all names of one file, where it has several. */
  readonly hardId?: string;
  readonly attributes?: readonly (readonly [string, Buffer])[];
  /** Data ranges [offset, length] of a sparse file. */
  readonly ranges?: readonly (readonly [number, number])[];
  readonly content?: Content | ContentList;
  readonly folder?: FolderRef;
}

export interface FolderRef {
  /** 32-byte name of the folder's node. */
  readonly node: Buffer;
  /** Everything below, and bytes of the files below. */
  readonly items: number;
  readonly bytes: number;
}

export const entryFlags = {
  unread: 1,
  random: 2,
  torn: 4,
  device: 8,
  hardId: 16,
  attributes: 32,
  ranges: 64,
  content: 128,
  lists: 256,
  folder: 512,
  link: 1024,
};

/** Writes one entry. */
export function writeEntry(w: ByteWriter, e: TreeEntry): void {
  writeTimedEntry(w, e, instantOf(e.mtimeNs), instantOf(e.ctimeNs));
}

/** An entry without its times. */
export type UntimedEntry = Omit<TreeEntry, 'mtimeNs' | 'ctimeNs'>;

/** Writes one entry with its times given apart. Field order is the format; see docs/store-format.md. */
export function writeTimedEntry(w: ByteWriter, e: UntimedEntry, mtime: Instant, ctime: Instant): void {
  const flag = entryFlags;
  const lists = e.content && 'lists' in e.content;
  const flags =
    (e.unread ? flag.unread : 0) |
    (e.random ? flag.random : 0) |
    (e.torn ? flag.torn : 0) |
    (e.device !== undefined ? flag.device : 0) |
    (e.hardId !== undefined ? flag.hardId : 0) |
    (e.attributes?.length ? flag.attributes : 0) |
    (e.ranges ? flag.ranges : 0) |
    (e.content ? (lists ? flag.lists : flag.content) : 0) |
    (e.folder ? flag.folder : 0) |
    (e.linkTarget !== undefined ? flag.link : 0);
  w.text(e.name);
  w.u8(itemKinds.indexOf(e.kind));
  w.varint(flags);
  w.varint(e.mode);
  w.varint(e.uid);
  w.varint(e.gid);
  w.time(mtime);
  w.time(ctime);
  w.varint(e.inode);
  w.varint(e.size);
  if (e.device !== undefined) w.varint(e.device);
  if (e.hardId !== undefined) w.text(e.hardId);
  if (e.attributes?.length) {
    w.varint(e.attributes.length);
    for (const [key, value] of e.attributes) {
      w.text(key);
      w.blob(value);
    }
  }
  if (e.ranges) {
    w.varint(e.ranges.length);
    for (const [offset, length] of e.ranges) {
      w.varint(offset);
      w.varint(length);
    }
  }
  if (e.content && 'lists' in e.content) {
    w.varint(e.content.count);
    w.blob(e.content.lists);
  } else if (e.content) writeContent(w, e.content);
  if (e.folder) {
    w.bytes(e.folder.node);
    w.varint(e.folder.items);
    w.varint(e.folder.bytes);
  }
  if (e.linkTarget !== undefined) w.text(e.linkTarget);
}

export function readEntry(r: ByteReader): TreeEntry {
  const name = r.text();
  const kind = itemKinds[r.u8()];
  if (!kind) throw new RangeError('unknown kind of item');
  const flags = r.varint();
  const entry: Writable<TreeEntry> = {
    name,
    kind,
    mode: r.varint(),
    uid: r.varint(),
    gid: r.varint(),
    mtimeNs: r.time(),
    ctimeNs: r.time(),
    inode: r.varint(),
    size: r.varint(),
  };
  const flag = entryFlags;
  if (flags & flag.unread) entry.unread = true;
  if (flags & flag.random) entry.random = true;
  if (flags & flag.torn) entry.torn = true;
  if (flags & flag.device) entry.device = r.varint();
  if (flags & flag.hardId) entry.hardId = r.text();
  if (flags & flag.attributes) entry.attributes = Array.from({ length: r.varint() }, () => [r.text(), Buffer.from(r.blob())] as const);
  if (flags & flag.ranges) entry.ranges = Array.from({ length: r.varint() }, () => [r.varint(), r.varint()] as const);
  if (flags & flag.lists) entry.content = { count: r.varint(), lists: Buffer.from(r.blob()) };
  if (flags & flag.content) entry.content = readContent(r);
  if (flags & flag.folder) entry.folder = { node: Buffer.from(r.bytes(32)), items: r.varint(), bytes: r.varint() };
  if (flags & flag.link) entry.linkTarget = r.text();
  return entry;
}

/** Of objects that are put together field by field: leaving out by spreading costs more than reading a small file. */
export type Writable<T> = { -readonly [K in keyof T]: T[K] };

export function writeContent(w: ByteWriter, content: Content): void {
  w.blob(content.names);
  for (const length of content.lengths) w.varint(length);
}

export function readContent(r: ByteReader): Content {
  const names = Buffer.from(r.blob());
  if (names.length % 32 !== 0) throw new RangeError('names of odd length');
  const lengths: number[] = [];
  for (let left = names.length / 32; left > 0; left--) lengths.push(r.varint());
  return { names, lengths };
}

/** Orders entries as a node holds them: by bytes of the name. */
export function byName(a: { readonly name: string }, b: { readonly name: string }): number {
  return a.name < b.name ? -1 : a.name > b.name ? 1 : 0;
}
