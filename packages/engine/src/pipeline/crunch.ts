import { cutSeed, type KeySet } from '../keys/key-set';
import { Cutter, formBytes, gearTable, hasForm, looksRandom, streamSizes } from '@lithodex/core';
import { EngineError } from '../errors';
import { readAt } from '../native/open-files';
import type { ChunkWriter } from '../store/chunk-writer';
import type { PutChunk } from '../tree/tree-writer';
import { FileReading, wholeLimit, type FileStream, type ReadContent } from './file-reading';
import { KnownCuts, type EarlierChunks } from './known-cuts';

/** Bytes of an image, stored block by block. */
export interface BlockJob {
  readonly data: Uint8Array;
  /** Bytes of a block; the last one may be shorter. A power of two up to 4 MiB. */
  readonly block: number;
}

export interface BlocksDone {
  /** 32 bytes each; zeros for a block of zeros. */
  readonly names: Uint8Array;
  /** Blocks whose content looks random. */
  readonly random: number;
}

/** Chunks of a piece of a stream, in order. */
export interface SegmentDone {
  /** 32 bytes each. */
  readonly names: Uint8Array;
  readonly lengths: readonly number[];
  /** Its beginning looks random. */
  readonly random: boolean;
  /** The memory it came in, to be used again. */
  readonly memory: ArrayBufferLike;
}

/** Memory of a piece that goes over to another thread; what is shared stays with both. */
export const handedOver = (memory: ArrayBufferLike): ArrayBuffer[] => (memory instanceof ArrayBuffer ? [memory] : []);

/** What is left of it moves to its front when less than a largest chunk is left: the larger, the less is moved. */
const windowBytes = 8 << 20;
/** Most bytes of a piece of a stream. */
export const segmentBytes = windowBytes;
const sampleBytes = 4 * 1024;
/** What is looked at to tell whether it is worth compressing. */
const probeBytes = 1024;
/** Of each piece of a file that does not begin so, so many parts are looked at; this many have to look random, and one in so many. */
const probesInside = 8;
const leastHits = 2;
const leastInside = 16 * 1024;
const noNames = Buffer.alloc(0);

/** What cuts streams for a store; its window is large, so that one is made for a thread and not for every run. */
export const cutterOf = (keys: KeySet): Cutter => new Cutter(gearTable(cutSeed(keys)), streamSizes, windowBytes);

/** Reads, cuts and stores files, one after another, in the thread it lives in, and packs their entries. */
export class Crunch extends FileReading {
  private readonly window: Buffer;
  protected readonly list: PutChunk;

  constructor(
    private readonly cutter: Cutter,
    private readonly writer: ChunkWriter,
    private readonly stopped: () => boolean,
  ) {
    super();
    const { buffer, byteOffset } = this.cutter.window;
    this.window = Buffer.from(buffer, byteOffset, windowBytes);
    this.list = (data) => this.writer.put(data);
  }

  /** Stores the blocks of an image and returns their names, 32 bytes each; of blocks that hold nothing but zeros 32 zeros. Throws as {@link files}. */
  async blocks({ data, block }: BlockJob): Promise<BlocksDone> {
    const names = Buffer.alloc(Math.ceil(data.length / block) * 32);
    let random = 0;
    for (let from = 0; from < data.length; from += windowBytes) {
      this.goOn();
      const part = data.subarray(from, from + windowBytes);
      this.window.set(part);
      for (let at = 0; at < part.length; at += block) {
        const to = Math.min(part.length, at + block);
        if (holdsZeros(this.window, at, to)) continue;
        const isRandom = this.cutter.random(at, Math.min(to, at + sampleBytes));
        if (isRandom) random++;
        this.writer.put(this.window.subarray(at, to), isRandom && this.dense(at, to)).copy(names, ((from + at) / block) * 32);
        if (this.writer.full) await this.writer.drain();
      }
    }
    return { names, random };
  }

  /** Cuts and stores a piece of a stream of at most {@link segmentBytes}, on its own: its end is the end of a chunk. Throws as {@link files}. */
  async segment(data: Uint8Array): Promise<SegmentDone> {
    this.goOn();
    this.window.set(data);
    const names: Buffer[] = [];
    const lengths: number[] = [];
    const end = data.length;
    const random = this.cutter.random(0, Math.min(end, sampleBytes)) && this.isFormless(end);
    for (let from = 0; from < end; from += lengths.at(-1)!) {
      const length = end <= wholeLimit ? end : this.cutter.next(from, end);
      const dense = this.cutter.random(from, from + Math.min(length, probeBytes)) && this.dense(from, from + length);
      names.push(this.writer.put(this.window.subarray(from, from + length), dense));
      lengths.push(length);
      if (this.writer.full) await this.writer.drain();
    }
    // memory of its own, as it is handed over
    return { names: new Uint8Array(Buffer.concat(names)), lengths, random, memory: data.buffer };
  }

  protected between(): Promise<void> | undefined {
    return this.writer.full ? this.writer.drain() : undefined;
  }

  protected goOn(): void {
    if (this.stopped()) throw new EngineError('STOPPED');
  }

  /** A small file: one chunk. */
  protected whole(fd: number, size: number): ReadContent {
    let read = 0;
    while (read < size) {
      const got = readAt(fd, read === 0 ? this.window : this.window.subarray(read), size - read, read);
      if (got === 0) break;
      read += got;
    }
    if (read === 0) return { names: noNames, lengths: [], read, short: size > 0, random: false };
    const even = this.cutter.random(0, Math.min(read, sampleBytes));
    const isRandom = even || (read < probeBytes ? looksRandom(this.window.subarray(0, read)) : this.hitsInside(0, read) >= leastHits);
    const random = isRandom && this.isFormless(read);
    return {
      names: this.writer.put(this.window.subarray(0, read), even && this.dense(sampleBytes, read)),
      lengths: [read],
      read,
      short: read < size,
      random,
    };
  }

  /** Whether the window does not begin as a known format does, whose bytes are even by nature. */
  private isFormless(to: number): boolean {
    return !hasForm(this.window.subarray(0, Math.min(to, formBytes)));
  }

  /** How many of some parts of a piece of the window look random, as where only parts of a file were encrypted. */
  private hitsInside(from: number, length: number): number {
    if (length < leastInside) return 0;
    let hits = 0;
    for (let part = 0; part < probesInside; part++) {
      const at = from + Math.floor((length / probesInside) * part);
      if (this.cutter.random(at, at + probeBytes)) hits++;
    }
    return hits;
  }

  /** Whether a part of the window looks as if it would not compress: in its middle and at its end, as far as there is enough to tell. */
  private dense(from: number, to: number): boolean {
    if (to - from < probeBytes) return true;
    const end = to - probeBytes;
    return this.cutter.random(end, to) && this.cutter.random((from + end) >> 1, ((from + end) >> 1) + probeBytes);
  }

  protected async stream(stream: FileStream, earlier: EarlierChunks | undefined): Promise<ReadContent> {
    const known = new KnownCuts(earlier);
    const names: Buffer[] = [];
    const lengths: number[] = [];
    const window = this.window;
    let position = 0;
    let from = 0;
    let to = stream.fill(window, 0);
    const even = this.cutter.random(0, Math.min(to, sampleBytes));
    const formless = this.isFormless(to);
    let hits = 0;
    const whole = stream.left <= 0 && to <= wholeLimit;
    while (to > from) {
      const usual = known.lengthAt(position) ?? 0;
      const same = usual > 0 && usual <= to - from ? this.writer.name(window.subarray(from, from + usual)) : undefined;
      const name = same && known.holds(same) ? same : undefined;
      const length = name ? usual : whole ? to : this.cutter.next(from, to);
      const dense = this.cutter.random(from, from + Math.min(length, probeBytes)) && this.dense(from, from + length);
      if (formless) hits += this.hitsInside(from, length);
      names.push(this.writer.put(window.subarray(from, from + length), dense, name));
      lengths.push(length);
      from += length;
      position += length;
      if (this.writer.full) await this.writer.drain();
      if (to - from < streamSizes.max && stream.left > 0) {
        this.goOn();
        window.copyWithin(0, from, to);
        to = stream.fill(window, to - from);
        from = 0;
      }
    }
    const random = formless && (even || (hits >= leastHits && hits >= lengths.length));
    return { names: Buffer.concat(names), lengths, read: stream.read, short: stream.short, random };
  }
}

const zeros = Buffer.alloc(64 << 10);

function holdsZeros(data: Buffer, from: number, to: number): boolean {
  if (data[from] !== 0 || data[to - 1] !== 0) return false;
  for (let at = from; at < to; at += zeros.length) {
    const end = Math.min(to, at + zeros.length);
    if (data.compare(zeros, 0, end - at, at, end) !== 0) return false;
  }
  return true;
}
