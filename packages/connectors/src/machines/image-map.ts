import type { DiskRange } from '@lithodex/core';
import { storeContent, type PutChunk, type TreeEntry, type TreeReader } from '@lithodex/engine';

/** Images are stored in blocks of this size, in bytes. */
export const imageBlock = 65_536;
const nameBytes = 32;
const nothing = Buffer.alloc(nameBytes);
/** Holes of up to so many blocks are stored as blocks of zeros, so that the list of ranges stays short. */
const smallHole = 16;

/** How a block stands against the one before at its place. */
export type BlockChange = 'same' | 'added' | 'changed' | 'removed';

/** Which chunk each block of an image is; blocks of zeros are none. Takes 32 bytes of memory a block. */
export class ImageMap {
  readonly blocks: number;
  private readonly names: Buffer;

  constructor(
    /** Bytes. */
    readonly size: number,
  ) {
    this.blocks = Math.ceil(size / imageBlock);
    this.names = Buffer.alloc(this.blocks * nameBytes);
  }

  /** The map of a stored image; undefined for a file that is not stored in such blocks. `zeros`: name of a block of zeros. */
  static async of(entry: TreeEntry, trees: TreeReader, zeros: Buffer): Promise<ImageMap | undefined> {
    const map = new ImageMap(entry.size);
    const ranges = entry.ranges ?? [[0, entry.size] as const];
    let range = 0;
    let done = 0;
    for await (const part of trees.contentParts(entry.content))
      for (const [i, length] of part.lengths.entries()) {
        const place = ranges[range];
        if (!place) return undefined;
        const offset = place[0] + done;
        if (offset % imageBlock !== 0 || length !== map.lengthOf(offset / imageBlock)) return undefined;
        const name = part.names.subarray(i * nameBytes, (i + 1) * nameBytes);
        if (!name.equals(zeros)) name.copy(map.names, (offset / imageBlock) * nameBytes);
        done += length;
        if (done >= place[1]) {
          range++;
          done = 0;
        }
      }
    return map;
  }

  /** Bytes of a block: the last one of a disk may be shorter. */
  lengthOf(block: number): number {
    return Math.min(imageBlock, this.size - block * imageBlock);
  }

  /** Name of the chunk of a block; undefined for zeros, and behind the end. */
  name(block: number): Buffer | undefined {
    const name = this.names.subarray(block * nameBytes, (block + 1) * nameBytes);
    return name.length === 0 || name.equals(nothing) ? undefined : name;
  }

  /** Puts a chunk in the place of a block; 32 zeros for zeros. */
  set(block: number, name: Uint8Array): BlockChange {
    const place = this.names.subarray(block * nameBytes, (block + 1) * nameBytes);
    if (place.equals(name)) return 'same';
    const was = !place.equals(nothing);
    place.set(name);
    return place.equals(nothing) ? 'removed' : was ? 'changed' : 'added';
  }

  /** Copies the names of another map as far as both go. */
  takeOver(other: ImageMap): void {
    other.names.copy(this.names, 0, 0, Math.min(this.names.length, other.names.length));
  }

  /** The stretches that hold data. */
  dataRanges(): DiskRange[] {
    const ranges: [number, number][] = [];
    for (let block = 0; block < this.blocks; block++) {
      if (!this.name(block)) continue;
      const offset = block * imageBlock;
      const last = ranges.at(-1);
      if (last && last[0] + last[1] === offset) last[1] += this.lengthOf(block);
      else ranges.push([offset, this.lengthOf(block)]);
    }
    return ranges;
  }

  /** Blocks that hold data. */
  get used(): number {
    let used = 0;
    for (let block = 0; block < this.blocks; block++) if (this.name(block)) used++;
    return used;
  }

  /** Ranges and content as an entry holds them. */
  stored(put: PutChunk): Pick<TreeEntry, 'ranges' | 'content'> {
    const names: Buffer[] = [];
    const lengths: number[] = [];
    const ranges: [number, number][] = [];
    let hole = 0;
    const take = (name: Buffer, length: number) => {
      names.push(name);
      lengths.push(length);
    };
    for (let block = 0; block < this.blocks; block++) {
      const name = this.name(block);
      if (!name) {
        hole++;
        continue;
      }
      const offset = block * imageBlock;
      const last = ranges.at(-1);
      if (last && hole <= smallHole) {
        for (; hole > 0; hole--) take(put(zeroBlock), imageBlock);
        last[1] = offset + this.lengthOf(block) - last[0];
      } else ranges.push([offset, this.lengthOf(block)]);
      hole = 0;
      take(name, this.lengthOf(block));
    }
    if (!names.length) return { ranges: [] };
    return { ranges, content: storeContent(put, { names: Buffer.concat(names), lengths }) };
  }
}

/** A block of zeros. */
export const zeroBlock = Buffer.alloc(imageBlock);
