import fs from 'node:fs';
import { cutSeed, type KeySet } from '../keys/key-set';
import { gearTable, looksRandom, nextCut, streamSizes } from '@lithodex/core';
import { systemCode } from '../errors';
import { asAccount, dataRanges, type Account } from '../native/posix';
import type { ChunkWriter } from '../store/chunk-writer';
import { withShortPath } from './open-deep';

/** One file to read. */
export interface FileJob {
  /** Absolute path, byte string. */
  readonly path: string;
  readonly inode: number;
  readonly size: number;
  /** The file may have holes. */
  readonly sparse: boolean;
  /** Whose rights to open it with; those of the process when absent. */
  readonly account?: Account | undefined;
}

/** What became of a file; metadata as they were when it was opened. */
export interface FileResult {
  /** Why nothing could be read; then the other fields mean nothing. */
  readonly failed?: string;
  readonly names: Uint8Array;
  readonly lengths: number[];
  readonly ranges?: [number, number][];
  readonly size: number;
  readonly mtimeNs: bigint;
  readonly ctimeNs: bigint;
  readonly random: boolean;
  readonly torn: boolean;
  /** Bytes read from the source. */
  readonly read: number;
}

const wholeLimit = 512 * 1024;
const windowBytes = 8 << 20;
const sampleBytes = 16 * 1024;

/** Reads, cuts and stores files, one after another, in the thread it lives in. */
export class Crunch {
  private readonly table: Int32Array;
  private readonly window = Buffer.allocUnsafeSlow(windowBytes);

  constructor(
    keys: KeySet,
    private readonly writer: ChunkWriter,
  ) {
    this.table = gearTable(cutSeed(keys));
  }

  async file(job: FileJob): Promise<FileResult> {
    let fd: number;
    const { O_RDONLY, O_NOFOLLOW, O_NONBLOCK } = fs.constants;
    try {
      fd = asAccount(job.account, () => withShortPath(job.path, (path) => fs.openSync(path, O_RDONLY | O_NOFOLLOW | O_NONBLOCK)));
    } catch (error) {
      return failure(systemCode(error) ?? String(error));
    }
    try {
      const before = fs.fstatSync(fd, { bigint: true });
      if (!before.isFile() || Number(before.ino) !== job.inode) return failure('REPLACED');
      const size = Number(before.size);
      const ranges = job.sparse ? dataRanges(fd, size) : undefined;
      const stream = new FileStream(fd, ranges ?? [[0, size]]);
      const { names, lengths, random } = await this.stream(stream);
      const after = fs.fstatSync(fd, { bigint: true });
      const torn = stream.short || after.mtimeNs !== before.mtimeNs || after.ctimeNs !== before.ctimeNs || after.size !== before.size;
      const held = torn && !ranges ? lengths.reduce((a, b) => a + b, 0) : size;
      return {
        names: Buffer.concat(names),
        lengths,
        ...(ranges && { ranges: trimRanges(ranges, stream.read) }),
        size: held,
        mtimeNs: before.mtimeNs,
        ctimeNs: torn ? 0n : before.ctimeNs,
        random,
        torn,
        read: stream.read,
      };
    } catch (error) {
      const code = systemCode(error);
      if (code && !(error instanceof Error && error.name === 'EngineError')) return failure(code);
      throw error;
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
    const random = to > 0 && looksRandom(window.subarray(0, Math.min(to, sampleBytes)));
    const whole = stream.left <= 0 && to <= wholeLimit;
    while (to > from) {
      const length = whole ? to : nextCut(window, from, to, this.table, streamSizes);
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

function failure(failed: string): FileResult {
  return { failed, names: Buffer.alloc(0), lengths: [], size: 0, mtimeNs: 0n, ctimeNs: 0n, random: false, torn: false, read: 0 };
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
