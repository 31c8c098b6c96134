import { damaged } from './errors';

/** A disk, or a stretch of one. */
export interface Blocks {
  /** Bytes. */
  readonly size: number;
  /** Exactly `length` bytes; what is returned must not be changed. Throws DISK_DAMAGED for a place beyond the end. */
  read(offset: number, length: number): Promise<Buffer>;
  /** Where data is, from a place on, and what was never written and reads as zeros; all of it is data where nothing says. */
  stretches?(offset: number, length: number): Stretch[];
}

/** A stretch of a disk. */
export interface Stretch {
  readonly length: number;
  readonly hole: boolean;
}

/** Throws DISK_DAMAGED unless the stretch lies on the disk. */
export function checkPlace(blocks: Pick<Blocks, 'size'>, offset: number, length: number): void {
  if (!Number.isSafeInteger(offset) || !Number.isSafeInteger(length) || offset < 0 || length < 0 || offset + length > blocks.size)
    throw damaged(`a place beyond the end: ${offset} and ${length} bytes`);
}

/** A stretch of a disk as a disk of its own. Nothing outside is read. */
export function stretchOf(blocks: Blocks, offset: number, size: number): Blocks {
  checkPlace(blocks, offset, size);
  const own = { size };
  return {
    size,
    async read(at, length) {
      checkPlace(own, at, length);
      return blocks.read(offset + at, length);
    },
    ...(blocks.stretches && { stretches: (at: number, length: number) => blocks.stretches!(offset + at, length) }),
  };
}

/** Bytes in memory as a disk. */
export function memoryBlocks(data: Buffer): Blocks {
  return {
    size: data.length,
    async read(offset, length) {
      checkPlace({ size: data.length }, offset, length);
      return data.subarray(offset, offset + length);
    },
  };
}

const pageBytes = 65_536;
const pagesKept = 256;

/** Keeps pages that were read, so that reading small things is cheap. Reads of a page and more go past it. */
export class CachedBlocks implements Blocks {
  readonly size: number;
  private readonly pages = new Map<number, Promise<Buffer>>();

  constructor(private readonly blocks: Blocks) {
    this.size = blocks.size;
  }

  async read(offset: number, length: number): Promise<Buffer> {
    checkPlace(this, offset, length);
    if (length >= pageBytes) return this.blocks.read(offset, length);
    const first = Math.floor(offset / pageBytes);
    const from = offset - first * pageBytes;
    const page = await this.page(first);
    if (from + length <= page.length) return page.subarray(from, from + length);
    const next = await this.page(first + 1);
    return Buffer.concat([page.subarray(from), next.subarray(0, length - (page.length - from))]);
  }

  private page(number: number): Promise<Buffer> {
    const known = this.pages.get(number);
    if (known) return known;
    const offset = number * pageBytes;
    const read = this.blocks.read(offset, Math.min(pageBytes, this.size - offset));
    this.pages.set(number, read);
    read.catch(() => this.pages.delete(number));
    if (this.pages.size > pagesKept) for (const oldest of this.pages.keys()) return (this.pages.delete(oldest), read);
    return read;
  }
}

/** Where a stretch of a file lies; `at` in bytes of the disk. */
export interface Run {
  /** Bytes in the file. */
  readonly offset: number;
  readonly length: number;
  readonly at: number;
}

/** Appends a run, joined with the one before where they follow each other. */
export function addRun(runs: Run[], run: Run): void {
  const last = runs.at(-1);
  if (last && last.offset + last.length === run.offset && last.at + last.length === run.at)
    runs[runs.length - 1] = { ...last, length: last.length + run.length };
  else runs.push(run);
}

/** Bytes of a file that lies in runs (sorted by offset); what no run covers is zeros. */
export async function readRuns(blocks: Blocks, runs: readonly Run[], offset: number, length: number): Promise<Buffer> {
  let at = firstReaching(runs, offset);
  const only = runs[at];
  if (only && only.offset <= offset && offset + length <= only.offset + only.length)
    return blocks.read(only.at + offset - only.offset, length);
  const out = Buffer.alloc(length);
  for (; at < runs.length; at++) {
    const run = runs[at]!;
    if (run.offset >= offset + length) break;
    const from = Math.max(offset, run.offset);
    const to = Math.min(offset + length, run.offset + run.length);
    if (to > from) (await blocks.read(run.at + from - run.offset, to - from)).copy(out, from - offset);
  }
  return out;
}

/** Index of the first run that ends behind a place. */
function firstReaching(runs: readonly Run[], offset: number): number {
  let [low, high] = [0, runs.length];
  while (low < high) {
    const middle = (low + high) >> 1;
    if (runs[middle]!.offset + runs[middle]!.length <= offset) low = middle + 1;
    else high = middle;
  }
  return low;
}

/** The stretches of a file of `size` bytes that hold data; undefined where all of it does. */
export function dataRanges(runs: readonly Run[], size: number): [number, number][] | undefined {
  const ranges: [number, number][] = [];
  for (const { offset, length } of runs) {
    const end = Math.min(size, offset + length);
    if (end <= offset) continue;
    const last = ranges.at(-1);
    if (last && last[0] + last[1] === offset) last[1] = end - last[0];
    else ranges.push([offset, end - offset]);
  }
  const whole = size === 0 || (ranges.length === 1 && ranges[0]![0] === 0 && ranges[0]![1] === size);
  return whole ? undefined : ranges;
}
