import { blockId, ByteReader, ByteWriter, type ChunkLocation } from '@lithodex/engine';

/** A chunk of a file with its place in the store. */
export interface PlacedChunk {
  readonly name: Buffer;
  readonly location: ChunkLocation;
}

/** A file to be made in an open folder, its entry as it is stored; see `FileToPlace`. */
export interface StoredFile {
  readonly folder: number;
  readonly temporary: string;
  readonly replace: boolean;
  readonly entry: Uint8Array;
  /** Bytes. */
  readonly size: number;
}

/** A batch of files to place, as one piece of memory: entries as they are stored, blocks named once, chunks by block. */
export class PlaceBatch {
  private readonly files = new ByteWriter();
  private readonly blocks = new ByteWriter();
  private readonly known = new Map<string, number>();
  count = 0;
  bytes = 0;

  add(file: StoredFile, chunks: readonly PlacedChunk[]): void {
    const w = this.files;
    w.u8(file.replace ? 1 : 0);
    w.varint(file.folder);
    w.text(file.temporary);
    w.blob(file.entry);
    w.varint(chunks.length);
    for (const { name, location } of chunks) {
      w.bytes(name);
      w.varint(this.blockOf(location));
      w.varint(location.offset);
      w.varint(location.length);
    }
    this.count++;
    this.bytes += file.size;
  }

  private blockOf({ id, packId, block, at }: ChunkLocation): number {
    const known = this.known.get(id);
    if (known !== undefined) return known;
    const number = this.known.size;
    this.known.set(id, number);
    this.blocks.bytes(packId);
    for (const n of [block, at.offset, at.stored, at.raw, at.codec]) this.blocks.varint(n);
    return number;
  }

  take(): Uint8Array<ArrayBuffer> {
    const w = new ByteWriter();
    w.varint(this.known.size);
    w.bytes(this.blocks.view());
    w.varint(this.count);
    w.bytes(this.files.view());
    return new Uint8Array(w.view());
  }
}

/** A file of a batch with its chunks. */
export interface BatchedFile {
  readonly file: Omit<StoredFile, 'size' | 'entry'> & { readonly entry: Buffer };
  readonly chunks: readonly PlacedChunk[];
}

/** Inverse of {@link PlaceBatch}. The buffers are views. */
export function* readBatch(data: Uint8Array): Generator<BatchedFile> {
  const r = new ByteReader(Buffer.from(data.buffer, data.byteOffset, data.length));
  const blocks = Array.from({ length: r.varint() }, () => {
    const packId = r.bytes(16);
    const block = r.varint();
    const at = { offset: r.varint(), stored: r.varint(), raw: r.varint(), codec: r.varint() };
    return { id: blockId(packId, block), packId, block, at };
  });
  for (let left = r.varint(); left > 0; left--) {
    const replace = r.u8() === 1;
    const folder = r.varint();
    const temporary = r.text();
    const entry = r.blob();
    const chunks: PlacedChunk[] = [];
    for (let more = r.varint(); more > 0; more--) {
      const name = r.bytes(32);
      const { id, packId, block, at } = blocks[r.varint()]!;
      chunks.push({ name, location: { id, packId, block, at, offset: r.varint(), length: r.varint() } });
    }
    yield { file: { folder, temporary, replace, entry }, chunks };
  }
}
