import fs from 'node:fs';
import type { TreeEntry } from '@lithodex/engine';
import type { ReadableTree } from '../readable-tree';

/**
 * True when an open file holds exactly the content of an entry: its size and every chunk, read at the places the entry names.
 * Of what is stored nothing is read from the target but the lists of long files: sums tell. Holes must read as zeros.
 */
export async function contentMatches(fd: number, entry: TreeEntry, tree: ReadableTree): Promise<boolean> {
  if (fs.fstatSync(fd).size !== entry.size) return false;
  const places = new RangeCursor(entry.ranges ?? [[0, entry.size]]);
  for await (const part of tree.trees.contentParts(entry.content)) {
    for (const [i, length] of part.lengths.entries()) {
      const data = Buffer.allocUnsafe(length);
      for (const { at, offset, count } of places.next(length)) if (fs.readSync(fd, data, at, count, offset) !== count) return false;
      if (!(await tree.isChunk(part.names.subarray(i * 32, i * 32 + 32), data))) return false;
    }
  }
  return places.finished && holesAreZero(fd, entry);
}

/** Maps a stream of chunk lengths onto the data ranges of a file. */
export class RangeCursor {
  private range = 0;
  private done = 0;

  constructor(private readonly ranges: readonly (readonly [number, number])[]) {}

  get finished(): boolean {
    return this.ranges.slice(this.range).every(([, length]) => length === 0);
  }

  /** Where the next `length` bytes go: `at` in the chunk, `offset` in the file, `count` bytes. */
  next(length: number): { at: number; offset: number; count: number }[] {
    const places: { at: number; offset: number; count: number }[] = [];
    for (let at = 0; at < length;) {
      const range = this.ranges[this.range];
      if (!range) throw new RangeError('more content than ranges');
      const count = Math.min(length - at, range[1] - this.done);
      if (count > 0) places.push({ at, offset: range[0] + this.done, count });
      at += count;
      this.done += count;
      if (this.done >= range[1]) {
        this.range++;
        this.done = 0;
      }
    }
    return places;
  }
}

function holesAreZero(fd: number, entry: TreeEntry): boolean {
  if (!entry.ranges) return true;
  const block = Buffer.alloc(1 << 20);
  const zeros = Buffer.alloc(1 << 20);
  let from = 0;
  for (const [offset, length] of [...entry.ranges, [entry.size, 0] as const]) {
    for (let at = from; at < offset; at += block.length) {
      const count = Math.min(block.length, offset - at);
      fs.readSync(fd, block, 0, count, at);
      if (!block.subarray(0, count).equals(zeros.subarray(0, count))) return false;
    }
    from = offset + length;
  }
  return true;
}
