import type { ByteReader } from '../format/byte-io';
import { entryFlags, itemKinds, type FolderRef, type ItemKind } from './tree-entry';

/**
 * Goes through the entries of a leaf node without making objects of them: what decides "unchanged" is read, the rest is passed over, and an entry can
 * be taken over as the bytes it is. Throws a RangeError where the data ends too early.
 */
export class EntryCursor {
  private at: number;
  private left: number;
  private begin = 0;
  private folderAt = -1;
  private contentAt = -1;
  /** Byte string. */
  name = '';
  kind: ItemKind = 'file';
  flags = 0;
  mode = 0;
  uid = 0;
  gid = 0;
  mtimeSeconds = 0;
  mtimeNanos = 0;
  ctimeSeconds = 0;
  ctimeNanos = 0;
  inode = 0;
  size = 0;

  /** `reader` stands before the first of `count` entries of `data`. */
  constructor(
    private readonly data: Buffer,
    reader: Pick<ByteReader, 'at'>,
    count: number,
  ) {
    this.at = reader.at;
    this.left = count;
  }

  private varint(): number {
    const { data } = this;
    let byte = data[this.at++]!;
    if (byte < 128) return byte;
    let value = byte & 127;
    for (let scale = 128; ; scale *= 128) {
      if (this.at >= data.length || scale > 2 ** 49) throw new RangeError('ends too early');
      byte = data[this.at++]!;
      value += (byte & 127) * scale;
      if (byte < 128) return value;
    }
  }

  private signed(): number {
    const zigzag = this.varint();
    return zigzag % 2 === 0 ? zigzag / 2 : -(zigzag + 1) / 2;
  }

  private skip(length: number): void {
    this.at += length;
  }

  /** Goes to the next entry; false at the end. */
  next(): boolean {
    if (this.left === 0) return false;
    this.left--;
    this.begin = this.at;
    const length = this.varint();
    this.name = this.data.toString('latin1', this.at, this.at + length);
    this.skip(length);
    const kind = itemKinds[this.data[this.at++]!];
    if (!kind) throw new RangeError('unknown kind of item');
    this.kind = kind;
    this.flags = this.varint();
    this.mode = this.varint();
    this.uid = this.varint();
    this.gid = this.varint();
    this.mtimeSeconds = this.signed();
    this.mtimeNanos = this.varint();
    this.ctimeSeconds = this.signed();
    this.ctimeNanos = this.varint();
    this.inode = this.varint();
    this.size = this.varint();
    this.skipRest();
    if (this.at > this.data.length) throw new RangeError('ends too early');
    return true;
  }

  private skipRest(): void {
    const { flags } = this;
    if (flags & entryFlags.device) this.varint();
    if (flags & entryFlags.hardId) this.skip(this.varint());
    if (flags & entryFlags.attributes)
      for (let n = this.varint(); n > 0; n--) {
        this.skip(this.varint());
        this.skip(this.varint());
      }
    if (flags & entryFlags.ranges) for (let n = 2 * this.varint(); n > 0; n--) this.varint();
    if (flags & entryFlags.lists) {
      this.varint();
      this.skip(this.varint());
    }
    this.contentAt = -1;
    if (flags & entryFlags.content) {
      this.contentAt = this.at;
      const names = this.varint();
      this.skip(names);
      for (let n = names / 32; n > 0; n--) this.varint();
    }
    this.folderAt = -1;
    if (flags & entryFlags.folder) {
      this.folderAt = this.at;
      this.skip(32);
      this.varint();
      this.varint();
    }
    if (flags & entryFlags.link) this.skip(this.varint());
  }

  /** The bytes of the entry: a view. */
  bytes(): Buffer {
    return this.data.subarray(this.begin, this.at);
  }

  /** Calls `visit` with the name (a view) and the length of every chunk of a file that names them itself. */
  chunks(visit: (name: Buffer, length: number) => void): void {
    if (this.contentAt < 0) return;
    const end = this.at;
    this.at = this.contentAt;
    const bytes = this.varint();
    let name = this.at;
    this.skip(bytes);
    for (const last = this.at; name < last; name += 32) visit(this.data.subarray(name, name + 32), this.varint());
    this.at = end;
  }

  /** What a folder's entry leads to. */
  folder(): FolderRef | undefined {
    if (this.folderAt < 0) return undefined;
    const end = this.at;
    this.at = this.folderAt + 32;
    const ref = { node: Buffer.from(this.data.subarray(this.folderAt, this.folderAt + 32)), items: this.varint(), bytes: this.varint() };
    this.at = end;
    return ref;
  }
}
