import fs from 'node:fs';
import { cutSeed, type KeySet } from '../keys/key-set';
import { Cutter, gearTable, streamSizes } from '@lithodex/core';
import { EngineError, systemCode } from '../errors';
import { ByteWriter, type Instant } from '../format/byte-io';
import { openFolderBeneath } from '../native/beneath';
import { closeFile, FileFacts, openIn, readAt, statOpen } from '../native/open-files';
import { asAccount, dataRanges, readAttributesOpen, type Account } from '../native/posix';
import type { ChunkWriter } from '../store/chunk-writer';
import { writeTimedEntry, type UntimedEntry, type Writable } from '../tree/tree-entry';
import { storeContent, type PutChunk } from '../tree/tree-writer';
import type { FileResults } from './file-results';
import { KnownCuts, type EarlierChunks } from './known-cuts';

/** Files to read, all with the rights of one account. */
export interface FileJobs {
  /** The open folder that all of them lie below. */
  readonly top: number;
  readonly folders: readonly FolderJobs[];
  /** Whose rights to open them with; those of the process when absent. */
  readonly account?: Account | undefined;
}

/** Files of one folder. Byte strings. */
export interface FolderJobs {
  /** Below the top. */
  readonly path: string;
  readonly names: readonly string[];
  /** What large files held at the earlier point, by name. */
  readonly earlier?: ReadonlyMap<string, EarlierChunks>;
}

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
  readonly memory: ArrayBuffer;
}

/** Files above this size are cut into chunks, in bytes. */
export const wholeLimit = 512 * 1024;
/** What is left of it moves to its front when less than a largest chunk is left: the larger, the less is moved. */
const windowBytes = 8 << 20;
/** Most bytes of a piece of a stream. */
export const segmentBytes = windowBytes;
const sampleBytes = 4 * 1024;
/** What is looked at to tell whether it is worth compressing. */
const probeBytes = 1024;
const notRead: Instant = { seconds: 0, nanos: 0 };

/** What was read of a file. */
interface ReadContent {
  /** 32 bytes each. */
  readonly names: Buffer;
  readonly lengths: number[];
  /** Bytes. */
  readonly read: number;
  /** There was less than the system said. */
  readonly short: boolean;
  readonly random: boolean;
}

const { O_RDONLY, O_NOFOLLOW, O_NONBLOCK } = fs.constants;
const noNames = Buffer.alloc(0);

/** What cuts streams for a store; its window is large, so that one is made for a thread and not for every run. */
export const cutterOf = (keys: KeySet): Cutter => new Cutter(gearTable(cutSeed(keys)), streamSizes, windowBytes);

/** Reads, cuts and stores files, one after another, in the thread it lives in, and packs their entries. */
export class Crunch {
  private readonly window: Buffer;
  private readonly entry = new ByteWriter();
  private readonly before = new FileFacts();
  private readonly after = new FileFacts();
  private readonly list: PutChunk;

  constructor(
    private readonly cutter: Cutter,
    private readonly writer: ChunkWriter,
    private readonly stopped: () => boolean,
  ) {
    const { buffer, byteOffset } = this.cutter.window;
    this.window = Buffer.from(buffer, byteOffset, windowBytes);
    this.list = (data) => this.writer.put(data);
  }

  /** Stores the files and describes them to `results`, in order. Throws what the target throws, and STOPPED. */
  async files(jobs: FileJobs, results: FileResults): Promise<void> {
    for (const { path, names, earlier } of jobs.folders) {
      let folder: number;
      try {
        folder = asAccount(jobs.account, () => openFolderBeneath(jobs.top, path));
      } catch (error) {
        const code = systemCode(error) ?? String(error);
        for (const _ of names) results.failed(code);
        continue;
      }
      try {
        for (const name of names) {
          this.goOn();
          const later = this.file(folder, name, jobs.account, earlier?.get(name), results);
          if (later) await later;
          if (this.writer.full) await this.writer.drain();
        }
      } finally {
        closeFile(folder);
      }
    }
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
        const looksRandom = this.cutter.random(at, Math.min(to, at + sampleBytes));
        if (looksRandom) random++;
        this.writer.put(this.window.subarray(at, to), looksRandom && this.dense(at, to)).copy(names, ((from + at) / block) * 32);
        if (this.writer.full) await this.writer.drain();
      }
    }
    return { names, random };
  }

  /** Cuts and stores a piece of a stream of at most {@link segmentBytes}, on its own: its end is the end of a chunk. Throws as {@link files}. */
  async segment(data: Uint8Array<ArrayBuffer>): Promise<SegmentDone> {
    this.goOn();
    this.window.set(data);
    const names: Buffer[] = [];
    const lengths: number[] = [];
    const end = data.length;
    const random = this.cutter.random(0, Math.min(end, sampleBytes));
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

  private goOn(): void {
    if (this.stopped()) throw new EngineError('STOPPED');
  }

  /** A promise only for a file that takes several reads: waiting for every small one costs more than reading it. */
  private file(
    folder: number,
    name: string,
    account: Account | undefined,
    earlier: EarlierChunks | undefined,
    results: FileResults,
  ): Promise<void> | undefined {
    let fd: number;
    try {
      fd = asAccount(account, () => openIn(folder, name, O_RDONLY | O_NOFOLLOW | O_NONBLOCK));
    } catch (error) {
      results.failed(systemCode(error) ?? String(error));
      return undefined;
    }
    let later: Promise<void> | undefined;
    try {
      const { before } = this;
      statOpen(fd, before);
      const ranges = before.blocks * 512 < before.size && before.isFile ? dataRanges(fd, before.size) : undefined;
      if (!before.isFile) results.failed('REPLACED');
      else if (ranges || before.size > wholeLimit) later = this.streamed(fd, name, ranges, earlier, results);
      else this.tell(fd, name, this.whole(fd, before.size), undefined, results);
    } catch (error) {
      tellFailure(error, results);
    } finally {
      if (!later) closeFile(fd);
    }
    return later;
  }

  /** Reads an open file part by part, and closes it. */
  private async streamed(
    fd: number,
    name: string,
    ranges: [number, number][] | undefined,
    earlier: EarlierChunks | undefined,
    results: FileResults,
  ): Promise<void> {
    try {
      const content = await this.stream(new FileStream(fd, ranges ?? [[0, this.before.size]]), new KnownCuts(earlier));
      this.tell(fd, name, content, ranges, results);
    } catch (error) {
      tellFailure(error, results);
    } finally {
      closeFile(fd);
    }
  }

  /** Describes an open file that has been read. */
  private tell(fd: number, name: string, content: ReadContent, ranges: [number, number][] | undefined, results: FileResults): void {
    const { before } = this;
    const [attributes, attributesFailed] = attributesOf(fd);
    const { names, lengths, read, random } = content;
    const torn = content.short || this.changed(fd);
    const size = torn && !ranges ? read : before.size;
    const hardId = before.links > 1 ? `${before.device}:${before.inode}` : undefined;
    const entry: Writable<UntimedEntry> = {
      name,
      kind: 'file',
      mode: before.mode & 0o7777,
      uid: before.uid,
      gid: before.gid,
      inode: before.inode,
      size,
    };
    if (attributes.length) entry.attributes = attributes;
    if (lengths.length) entry.content = storeContent(this.list, { names, lengths });
    if (ranges) entry.ranges = trimRanges(ranges, read);
    if (hardId) entry.hardId = hardId;
    if (random) entry.random = random;
    if (torn) entry.torn = torn;
    this.entry.clear();
    writeTimedEntry(
      this.entry,
      entry,
      { seconds: before.mtimeSeconds, nanos: before.mtimeNanos },
      torn ? notRead : { seconds: before.ctimeSeconds, nanos: before.ctimeNanos },
    );
    results.done({ entry: this.entry.view(), size, read, torn, hardId: hardId ?? '', attributesFailed });
  }

  /** Whether the open file is not what it was `before` any more. */
  private changed(fd: number): boolean {
    const { before, after } = this;
    statOpen(fd, after);
    return (
      after.size !== before.size ||
      after.mtimeNanos !== before.mtimeNanos ||
      after.mtimeSeconds !== before.mtimeSeconds ||
      after.ctimeNanos !== before.ctimeNanos ||
      after.ctimeSeconds !== before.ctimeSeconds
    );
  }

  /** A small file: one chunk. */
  private whole(fd: number, size: number): ReadContent {
    let read = 0;
    while (read < size) {
      const got = readAt(fd, read === 0 ? this.window : this.window.subarray(read), size - read, read);
      if (got === 0) break;
      read += got;
    }
    if (read === 0) return { names: noNames, lengths: [], read, short: size > 0, random: false };
    const random = this.cutter.random(0, Math.min(read, sampleBytes));
    return {
      names: this.writer.put(this.window.subarray(0, read), random && this.dense(sampleBytes, read)),
      lengths: [read],
      read,
      short: read < size,
      random,
    };
  }

  /** Whether a part of the window looks as if it would not compress: in its middle and at its end, as far as there is enough to tell. */
  private dense(from: number, to: number): boolean {
    if (to - from < probeBytes) return true;
    const end = to - probeBytes;
    return this.cutter.random(end, to) && this.cutter.random((from + end) >> 1, ((from + end) >> 1) + probeBytes);
  }

  private async stream(stream: FileStream, known: KnownCuts): Promise<ReadContent> {
    const names: Buffer[] = [];
    const lengths: number[] = [];
    const window = this.window;
    let position = 0;
    let from = 0;
    let to = stream.fill(window, 0);
    const random = this.cutter.random(0, Math.min(to, sampleBytes));
    const whole = stream.left <= 0 && to <= wholeLimit;
    while (to > from) {
      const usual = known.lengthAt(position) ?? 0;
      const same = usual > 0 && usual <= to - from ? this.writer.name(window.subarray(from, from + usual)) : undefined;
      const name = same && known.holds(same) ? same : undefined;
      const length = name ? usual : whole ? to : this.cutter.next(from, to);
      const dense = this.cutter.random(from, from + Math.min(length, probeBytes)) && this.dense(from, from + length);
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

/** What the system says of one file concerns that file; the rest ends the work. */
function tellFailure(error: unknown, results: FileResults): void {
  const code = systemCode(error);
  if (!code || error instanceof EngineError) throw error;
  results.failed(code);
}

function attributesOf(fd: number): [attributes: [string, Buffer][], failed: string] {
  try {
    return [readAttributesOpen(fd), ''];
  } catch (error) {
    return [[], systemCode(error) ?? String(error)];
  }
}

/** The data ranges up to the number of bytes that could be read: a file cut while being read keeps consistent ranges. */
function trimRanges(ranges: readonly [number, number][], read: number): [number, number][] {
  const kept: [number, number][] = [];
  for (const [offset, length] of ranges) {
    if (read <= 0) break;
    kept.push([offset, Math.min(length, read)]);
    read -= length;
  }
  return kept;
}

/** The data ranges of an open file as one stream. */
class FileStream {
  private range = 0;
  private done = 0;
  read = 0;
  /** The file was shorter than its ranges said. */
  short = false;
  left: number;

  constructor(
    private readonly fd: number,
    private readonly ranges: readonly [number, number][],
  ) {
    this.left = ranges.reduce((sum, [, length]) => sum + length, 0);
  }

  /** Fills `window` from `at` on and returns the end of the data in it. */
  fill(window: Buffer, at: number): number {
    while (at < window.length && this.left > 0) {
      const [offset, length] = this.ranges[this.range]!;
      const got = readAt(this.fd, window.subarray(at), Math.min(window.length - at, length - this.done), offset + this.done);
      if (got === 0) {
        this.short = true;
        this.left = 0;
        break;
      }
      at += got;
      this.done += got;
      this.read += got;
      this.left -= got;
      if (this.done === length) {
        this.range++;
        this.done = 0;
      }
    }
    return at;
  }
}
