import {
  ByteReader,
  NameSet,
  nodeKind,
  readContent,
  readEntry,
  type FolderRef,
  type PutChunk,
  type Root,
  type TreeEntry,
} from '@lithodex/engine';
import { SourceError } from '../source-error';
import { nonceBytes, numberAt } from './messages';

const nameBytes = 32;
const wrongName = /^\.{0,2}$|\/|\0/;

type Sums = Pick<FolderRef, 'items' | 'bytes'>;

const refuse = (what: string) => new SourceError('LINK_BROKEN', what);

/**
 * Stands between a mover that only reads and the store: it is given tree nodes of the point before, and nothing else; the nodes it makes may name only what it stored itself or what that
 * point holds, and must sum up to what they say. So it can spoil its own points and no others.
 */
export class NodeGate {
  /** Names of the nodes that were made, by number. */
  private readonly made: Buffer[] = [];
  /** Nodes of folders that may be named, with what is below: those of the point before that were seen, and those that were made. */
  private readonly folders = new Map<string, Sums>();
  /** Nodes of the point before that may be read. */
  private readonly readable = new Set<string>();
  /** Lists of chunks that may be named. */
  private readonly lists = new NameSet();
  private readonly chunks = new NameSet();
  /** Entries that came, and those of the point before. */
  private most = 1;

  constructor(
    /** Begins every stand-in. */
    private readonly nonce: Buffer,
    private readonly put: PutChunk,
  ) {}

  /** Lets a point of before be read, and used again. */
  allow({ totals }: Pick<Root, 'totals'>, top: TreeEntry): void {
    this.most += totals.items + 1;
    this.see(top);
  }

  /** Chunks that were stored: names of 32 bytes each. */
  stored(names: Uint8Array): void {
    const all = Buffer.from(names.buffer, names.byteOffset, names.length);
    for (let at = 0; at < all.length; at += nameBytes) this.chunks.add(all.subarray(at, at + nameBytes));
  }

  /** Whether this node may be read. */
  mayRead(name: Buffer): boolean {
    return name.length === nameBytes && this.readable.has(name.toString('hex'));
  }

  /** Learns what may be named because a node of the point before, just read, names it. */
  served(data: Buffer): void {
    const r = new ByteReader(data);
    if (data[0] === nodeKind.leaf) {
      r.u8();
      for (let left = r.varint(); left > 0; left--) this.see(readEntry(r));
    } else if (data[0] === nodeKind.list) {
      r.u8();
      for (let left = r.varint(); left > 0; left--) {
        r.text();
        r.varint();
        this.readable.add(r.bytes(nameBytes).toString('hex'));
      }
    } else this.stored(readContent(r).names);
  }

  private see({ folder, content }: TreeEntry): void {
    if (folder) {
      const name = folder.node.toString('hex');
      this.readable.add(name);
      this.folders.set(name, folder);
    }
    if (!content) return;
    if ('names' in content) this.stored(content.names);
    else
      for (let at = 0; at < content.lists.length; at += nameBytes) {
        const list = content.lists.subarray(at, at + nameBytes);
        this.lists.add(list);
        this.readable.add(list.toString('hex'));
      }
  }

  /** Stores a node that was sent. Throws LINK_BROKEN for one that names what it may not. */
  take(sent: Buffer): void {
    const data = this.named(sent);
    let sums: Sums | undefined;
    try {
      sums = this.check(data);
    } catch (error) {
      if (error instanceof SourceError) throw error;
      throw refuse('a tree node can not be read');
    }
    const name = this.put(data);
    this.made.push(name);
    if (sums) this.folders.set(name.toString('hex'), sums);
    else this.lists.add(name);
  }

  /** The top folder of the point. Throws LINK_BROKEN. */
  top(data: Buffer): TreeEntry {
    let top: TreeEntry;
    try {
      top = readEntry(new ByteReader(this.named(data)));
    } catch {
      throw refuse('the top folder can not be read');
    }
    if (top.name !== '' || !top.folder) throw refuse('the top is no folder');
    this.checkFolder(top.folder);
    if (top.folder.items > this.most) throw refuse('the tree holds more than was sent');
    return top;
  }

  /** A copy in which stand-ins have become names. */
  private named(sent: Buffer): Buffer {
    const data = Buffer.from(sent);
    for (let at = data.indexOf(this.nonce); at >= 0; at = data.indexOf(this.nonce, at + nonceBytes)) {
      const name = at + nameBytes <= data.length ? this.made[Number(data.readBigUInt64BE(at + numberAt))] : undefined;
      if (!name) throw refuse('a node is named that was not sent');
      name.copy(data, at);
    }
    return data;
  }

  private check(data: Buffer): Sums | undefined {
    const r = new ByteReader(data);
    const kind = data[0];
    if (kind !== nodeKind.leaf && kind !== nodeKind.list) {
      const { names } = readContent(r);
      this.end(r);
      this.checkChunks(names);
      return undefined;
    }
    r.u8();
    const count = r.varint();
    let items = 0;
    let bytes = 0;
    let last: string | undefined;
    const follows = (name: string) => {
      if (wrongName.test(name) || (last !== undefined && name <= last)) throw refuse('names are not in order');
      last = name;
    };
    for (let left = count; left > 0; left--) {
      let sums: Sums;
      if (kind === nodeKind.leaf) {
        const entry = readEntry(r);
        follows(entry.name);
        sums = this.entry(entry);
      } else {
        follows(r.text());
        r.varint();
        const node = this.folders.get(r.bytes(nameBytes).toString('hex'));
        if (!node) throw refuse('a piece of a folder is not known');
        sums = node;
      }
      items += sums.items;
      bytes += sums.bytes;
    }
    this.end(r);
    if (kind === nodeKind.leaf) this.most += count;
    return { items, bytes };
  }

  private end(r: ByteReader): void {
    if (r.left) throw refuse('a tree node is too long');
  }

  private entry({ folder, content, size }: TreeEntry): Sums {
    if (folder) this.checkFolder(folder);
    if (content && 'names' in content) this.checkChunks(content.names);
    else if (content)
      for (let at = 0; at < content.lists.length; at += nameBytes)
        if (!this.lists.has(content.lists.subarray(at, at + nameBytes))) throw refuse('a list of chunks is not known');
    return { items: 1 + (folder?.items ?? 0), bytes: size + (folder?.bytes ?? 0) };
  }

  private checkFolder({ node, items, bytes }: FolderRef): void {
    const known = this.folders.get(node.toString('hex'));
    if (known?.items !== items || known.bytes !== bytes) throw refuse('a folder is not known, or holds something else');
  }

  private checkChunks(names: Buffer): void {
    for (let at = 0; at < names.length; at += nameBytes)
      if (!this.chunks.has(names.subarray(at, at + nameBytes))) throw refuse('a chunk is named that was not sent');
  }
}
