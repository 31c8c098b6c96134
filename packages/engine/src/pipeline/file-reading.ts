import fs from 'node:fs';
import { EngineError, systemCode } from '../errors';
import { ByteWriter, type Instant } from '../format/byte-io';
import { openFolderBeneath } from '../native/beneath';
import { closeFile, FileFacts, openIn, readAt, statOpen } from '../native/open-files';
import { asAccount, dataRanges, readAttributesOpen, type Account } from '../native/posix';
import { writeTimedEntry, type UntimedEntry, type Writable } from '../tree/tree-entry';
import { storeContent, type PutChunk } from '../tree/tree-writer';
import type { FileResults } from './file-results';
import type { EarlierChunks } from './known-cuts';

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

/** Files above this size are cut into chunks, in bytes. */
export const wholeLimit = 512 * 1024;
const notRead: Instant = { seconds: 0, nanos: 0 };

/** What was read of a file. */
export interface ReadContent {
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

/** Opens and describes files, one after another; what becomes of their content is said by who extends it. */
export abstract class FileReading {
  private readonly entry = new ByteWriter();
  protected readonly before = new FileFacts();
  private readonly after = new FileFacts();

  /** Throws STOPPED when the work is to end. */
  protected abstract goOn(): void;
  /** Takes a file of at most {@link wholeLimit}. */
  protected abstract whole(fd: number, size: number): ReadContent | Promise<ReadContent>;
  /** Takes a file part by part. */
  protected abstract stream(stream: FileStream, earlier: EarlierChunks | undefined): Promise<ReadContent>;
  /** Stores a list of chunks. */
  protected abstract readonly list: PutChunk;
  /** Called behind every file; resolves when there is room for more. */
  protected abstract between(): Promise<void> | undefined;

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
          const more = this.between();
          if (more) await more;
        }
      } finally {
        closeFile(folder);
      }
    }
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
      else {
        const content = this.whole(fd, before.size);
        if (content instanceof Promise) later = this.told(fd, name, content, undefined, results);
        else this.tell(fd, name, content, undefined, results);
      }
    } catch (error) {
      tellFailure(error, results);
    } finally {
      if (!later) closeFile(fd);
    }
    return later;
  }

  /** Reads an open file part by part, and closes it. */
  private streamed(
    fd: number,
    name: string,
    ranges: [number, number][] | undefined,
    earlier: EarlierChunks | undefined,
    results: FileResults,
  ): Promise<void> {
    return this.told(fd, name, this.stream(new FileStream(fd, ranges ?? [[0, this.before.size]]), earlier), ranges, results);
  }

  /** Waits for what was read of an open file, and closes it. */
  private async told(
    fd: number,
    name: string,
    content: Promise<ReadContent>,
    ranges: [number, number][] | undefined,
    results: FileResults,
  ): Promise<void> {
    try {
      this.tell(fd, name, await content, ranges, results);
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
export class FileStream {
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
