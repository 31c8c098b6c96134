import { ByteReader, ByteWriter, readEntry, type ChunkLocation } from '@lithodex/engine';
import type { FileToPlace } from './place-file';

/** A chunk of a file with its place in the store. */
export interface PlacedChunk {
  readonly name: Buffer;
  readonly location: ChunkLocation;
}

/** A file to be made in an open folder, its entry as it is stored; see {@link FileToPlace}. */
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

  private blockOf({ packId, block, at }: ChunkLocation): number {
    const id = `${packId.toString('latin1')}${block}`;
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

/** Inverse of {@link PlaceBatch}. */
export function* readBatch(data: Uint8Array): Generator<{ file: FileToPlace; chunks: PlacedChunk[] }> {
  const r = new ByteReader(Buffer.from(data.buffer, data.byteOffset, data.length));
  const blocks = Array.from({ length: r.varint() }, () => {
    const packId = Buffer.from(r.bytes(16));
    return { packId, block: r.varint(), at: { offset: r.varint(), stored: r.varint(), raw: r.varint(), codec: r.varint() } };
  });
  for (let left = r.varint(); left > 0; left--) {
    const replace = r.u8() === 1;
    const folder = r.varint();
    const temporary = r.text();
    const entry = readEntry(new ByteReader(r.blob()));
    const chunks = Array.from({ length: r.varint() }, (): PlacedChunk => {
      const name = r.bytes(32);
      const { packId, block, at } = blocks[r.varint()]!;
      return { name, location: { packId, block, at, offset: r.varint(), length: r.varint() } };
    });
    yield { file: { folder, entry, temporary, replace }, chunks };
  }
}
