import { ByteReader, ByteWriter } from './byte-io';

/** One encrypted block of a pack. Lengths in bytes; `offset` counts from the start of the pack file. */
export interface BlockPlace {
  readonly offset: number;
  readonly stored: number;
  readonly raw: number;
  /** 0 stored as it is, 1 zstd. */
  readonly codec: number;
}

export interface TocChunk {
  readonly name: Buffer;
  readonly block: number;
  readonly offset: number;
  readonly length: number;
}

/** 32-byte name, then block, offset and length as u32. */
const chunkBytes = 44;

/**
 * Table of contents of a pack: what an index segment repeats. Its chunks stay in the bytes they are stored in, 44 a chunk, and become objects only where
 * somebody needs those: an index of millions is read several times as fast and takes a fraction of the memory.
 */
export class PackToc {
  private constructor(
    /** 16 bytes. */
    readonly packId: Buffer,
    readonly blocks: readonly BlockPlace[],
    private readonly table: Buffer,
  ) {}

  static of(packId: Buffer, blocks: readonly BlockPlace[], chunks: readonly TocChunk[]): PackToc {
    const table = Buffer.allocUnsafeSlow(chunks.length * chunkBytes);
    for (const [i, { name, block, offset, length }] of chunks.entries()) {
      const at = i * chunkBytes;
      table.set(name, at);
      table.writeUInt32LE(block, at + 32);
      table.writeUInt32LE(offset, at + 36);
      table.writeUInt32LE(length, at + 40);
    }
    return new PackToc(packId, blocks, table);
  }

  /** Throws a RangeError where the data ends too early. The chunks are a view of it. */
  static decode(r: ByteReader): PackToc {
    const packId = Buffer.from(r.bytes(16));
    const blocks = Array.from({ length: r.u32() }, () => ({ offset: r.u32(), stored: r.u32(), raw: r.u32(), codec: r.u8() }));
    return new PackToc(packId, blocks, r.bytes(r.u32() * chunkBytes));
  }

  encode(): Buffer {
    const w = new ByteWriter();
    w.bytes(this.packId);
    w.u32(this.blocks.length);
    for (const b of this.blocks) {
      w.u32(b.offset);
      w.u32(b.stored);
      w.u32(b.raw);
      w.u8(b.codec);
    }
    w.u32(this.count);
    w.bytes(this.table);
    return w.take();
  }

  /** How many chunks there are. */
  get count(): number {
    return this.table.length / chunkBytes;
  }

  /** The chunks as objects, made anew at every call; the names are views. */
  chunks(): TocChunk[] {
    return Array.from({ length: this.count }, (_, i) => this.chunk(i));
  }

  private chunk(i: number): TocChunk {
    const at = i * chunkBytes;
    const { table } = this;
    return {
      name: table.subarray(at, at + 32),
      block: table.readUInt32LE(at + 32),
      offset: table.readUInt32LE(at + 36),
      length: table.readUInt32LE(at + 40),
    };
  }

  /** Calls `visit` with every chunk: the table, where in it the name begins, block, offset and length. */
  each(visit: (table: Buffer, name: number, block: number, offset: number, length: number) => void): void {
    const { table } = this;
    for (let at = 0; at < table.length; at += chunkBytes)
      visit(table, at, table.readUInt32LE(at + 32), table.readUInt32LE(at + 36), table.readUInt32LE(at + 40));
  }
}
