import fs from 'node:fs';
import { cutSeed, type KeySet } from '../keys/key-set';
import { Cutter, gearTable, streamSizes } from '@lithodex/core';
import { systemCode } from '../errors';
import { ByteWriter, type Instant } from '../format/byte-io';
import { asAccount, dataRanges, readAttributesOpen, statOpen, type Account } from '../native/posix';
import type { ChunkWriter } from '../store/chunk-writer';
import { writeTimedEntry } from '../tree/tree-entry';
import { storeContent, type PutChunk } from '../tree/tree-writer';
import type { FileResults } from './file-results';
import { withShortPath } from './open-deep';

/** Files to read, all with the rights of one account. */
export interface FileJobs {
  /** Absolute paths, byte strings. */
  readonly paths: readonly string[];
  /** Whose rights to open them with; those of the process when absent. */
  readonly account?: Account | undefined;
}

const wholeLimit = 512 * 1024;
const windowBytes = 8 << 20;
const sampleBytes = 4 * 1024;
const notRead: Instant = { seconds: 0, nanos: 0 };

/** Reads, cuts and stores files, one after another, in the thread it lives in, and packs their entries. */
export class Crunch {
  private readonly cutter: Cutter;
  private readonly window: Buffer;
  private readonly entry = new ByteWriter();
  private readonly list: PutChunk;

  constructor(
    keys: KeySet,
    private readonly writer: ChunkWriter,
  ) {
    this.cutter = new Cutter(gearTable(cutSeed(keys)), streamSizes, windowBytes);
    const { buffer, byteOffset } = this.cutter.window;
    this.window = Buffer.from(buffer, byteOffset, windowBytes);
    this.list = (data) => this.writer.put(data);
  }

  /** Stores the files and describes them to `results`, in order. Throws what the target throws. */
  async files(jobs: FileJobs, results: FileResults): Promise<void> {
    for (const path of jobs.paths) {
      await this.file(path, jobs.account, results);
      if (this.writer.full) await this.writer.drain();
    }
  }

  private async file(path: string, account: Account | undefined, results: FileResults): Promise<void> {
    let fd: number;
    const { O_RDONLY, O_NOFOLLOW, O_NONBLOCK } = fs.constants;
    try {
      fd = asAccount(account, () => withShortPath(path, (p) => fs.openSync(p, O_RDONLY | O_NOFOLLOW | O_NONBLOCK)));
    } catch (error) {
      results.failed(systemCode(error) ?? String(error));
      return;
    }
    try {
      const before = statOpen(fd);
      if ((before.mode & 0o170000) !== 0o100000) {
        results.failed('REPLACED');
        return;
      }
      const [attributes, attributesFailed] = attributesOf(fd);
      const ranges = before.blocks * 512 < before.size ? dataRanges(fd, before.size) : undefined;
      const stream = new FileStream(fd, ranges ?? [[0, before.size]]);
      const { names, lengths, random } = await this.stream(stream);
      const after = statOpen(fd);
      const torn = stream.short || after.size !== before.size || !same(after.mtime, before.mtime) || !same(after.ctime, before.ctime);
      const size = torn && !ranges ? lengths.reduce((a, b) => a + b, 0) : before.size;
      const hardId = before.links > 1 ? `${before.device}:${before.inode}` : undefined;
      this.entry.clear();
      writeTimedEntry(
        this.entry,
        {
          name: path.slice(path.lastIndexOf('/') + 1),
          kind: 'file',
          mode: before.mode & 0o7777,
          uid: before.uid,
          gid: before.gid,
          inode: before.inode,
          size,
          ...(attributes.length && { attributes }),
          ...(lengths.length && { content: storeContent(this.list, { names: Buffer.concat(names), lengths }) }),
          ...(ranges && { ranges: trimRanges(ranges, stream.read) }),
          ...(hardId && { hardId }),
          ...(random && { random }),
          ...(torn && { torn }),
        },
        before.mtime,
        torn ? notRead : before.ctime,
      );
      results.done({ entry: this.entry.view(), size, read: stream.read, torn, hardId: hardId ?? '', attributesFailed });
    } catch (error) {
      const code = systemCode(error);
      if (!code || (error instanceof Error && error.name === 'EngineError')) throw error;
      results.failed(code);
    } finally {
      fs.closeSync(fd);
    }
  }

  private async stream(stream: FileStream): Promise<{ names: Buffer[]; lengths: number[]; random: boolean }> {
    const names: Buffer[] = [];
    const lengths: number[] = [];
    const window = this.window;
    let from = 0;
    let to = stream.fill(window, 0);
    const random = this.cutter.random(0, Math.min(to, sampleBytes));
    const whole = stream.left <= 0 && to <= wholeLimit;
    while (to > from) {
      const length = whole ? to : this.cutter.next(from, to);
      names.push(this.writer.put(window.subarray(from, from + length)));
      lengths.push(length);
      from += length;
      if (this.writer.full) await this.writer.drain();
      if (to - from < streamSizes.max && stream.left > 0) {
        window.copyWithin(0, from, to);
        to = stream.fill(window, to - from);
        from = 0;
      }
    }
    return { names, lengths, random };
  }
}

const same = (a: Instant, b: Instant) => a.nanos === b.nanos && a.seconds === b.seconds;

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
      const got = fs.readSync(this.fd, window, at, Math.min(window.length - at, length - this.done), offset + this.done);
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
