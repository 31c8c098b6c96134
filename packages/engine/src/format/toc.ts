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

/** Table of contents of a pack: what an index segment repeats. */
export interface PackToc {
  /** 16 bytes. */
  readonly packId: Buffer;
  readonly blocks: readonly BlockPlace[];
  readonly chunks: readonly TocChunk[];
}

export function encodeToc(toc: PackToc): Buffer {
  const w = new ByteWriter();
  w.bytes(toc.packId);
  w.u32(toc.blocks.length);
  for (const b of toc.blocks) {
    w.u32(b.offset);
    w.u32(b.stored);
    w.u32(b.raw);
    w.u8(b.codec);
  }
  w.u32(toc.chunks.length);
  for (const c of toc.chunks) {
    w.bytes(c.name);
    w.u32(c.block);
    w.u32(c.offset);
    w.u32(c.length);
  }
  return w.take();
}

export function decodeToc(r: ByteReader): PackToc {
  const packId = Buffer.from(r.bytes(16));
  const blocks = Array.from({ length: r.u32() }, () => ({ offset: r.u32(), stored: r.u32(), raw: r.u32(), codec: r.u8() }));
  const chunks = Array.from({ length: r.u32() }, () => ({
    name: Buffer.from(r.bytes(32)),
    block: r.u32(),
    offset: r.u32(),
    length: r.u32(),
  }));
  return { packId, blocks, chunks };
}
