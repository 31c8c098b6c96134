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

/** Which chunk each block of an image is; blocks of zeros are none. Takes 33 bytes of memory a block. */
export class ImageMap {
  readonly blocks: number;
  private readonly names: Buffer;
  /** 1 for a block that holds data. */
  private readonly holds: Uint8Array;
  /** Blocks that hold data. */
  used = 0;

  constructor(
    /** Bytes. */
    readonly size: number,
  ) {
    this.blocks = Math.ceil(size / imageBlock);
    this.names = Buffer.alloc(this.blocks * nameBytes);
    this.holds = new Uint8Array(this.blocks);
  }

  /** The map of a stored image; undefined for a file that is not stored in such blocks. `zeros`: name of a block of zeros. */
  static async of(entry: TreeEntry, trees: TreeReader, zeros: Buffer): Promise<ImageMap | undefined> {
    const map = new ImageMap(entry.size);
    const ranges = entry.ranges ?? [[0, entry.size] as const];
    const firstOfZeros = zeros.readInt32LE(0);
    let range = 0;
    let done = 0;
    for await (const { names, lengths } of trees.contentParts(entry.content))
      for (let i = 0; i < lengths.length; i++) {
        const place = ranges[range];
        if (!place) return undefined;
        const offset = place[0] + done;
        const block = offset / imageBlock;
        const length = lengths[i]!;
        if (!Number.isInteger(block) || length !== map.lengthOf(block)) return undefined;
        const from = i * nameBytes;
        const isZeros = names.readInt32LE(from) === firstOfZeros && zeros.compare(names, from, from + nameBytes) === 0;
        if (!isZeros) {
          names.copy(map.names, block * nameBytes, from, from + nameBytes);
          map.holds[block] = 1;
          map.used++;
        }
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
    return this.holds[block] ? this.names.subarray(block * nameBytes, (block + 1) * nameBytes) : undefined;
  }

  /** Puts a chunk in the place of a block; 32 zeros for zeros. */
  set(block: number, name: Uint8Array): BlockChange {
    const was = this.holds[block] === 1;
    const is = !nothing.equals(name);
    const place = this.names.subarray(block * nameBytes, (block + 1) * nameBytes);
    if (was === is && place.equals(name)) return 'same';
    place.set(name);
    this.holds[block] = Number(is);
    this.used += Number(is) - Number(was);
    return !is ? 'removed' : was ? 'changed' : 'added';
  }

  /** Takes over another map as far as both go. */
  takeOver(other: ImageMap): void {
    other.names.copy(this.names, 0, 0, Math.min(this.names.length, other.names.length));
    this.holds.set(other.holds.subarray(0, this.blocks));
    this.used = this.holds.reduce((sum, one) => sum + one, 0);
  }

  /** Numbers of the blocks that hold something else than in another image, rising; of none, those that hold data. */
  blocksUnlike(other: ImageMap | undefined): number[] {
    const unlike: number[] = [];
    for (let block = 0; block < this.blocks; block++) {
      const mine = this.name(block);
      const theirs = other?.name(block);
      if (mine === undefined ? theirs !== undefined : theirs === undefined || !mine.equals(theirs)) unlike.push(block);
    }
    return unlike;
  }

  /** The stretches that hold data. */
  dataRanges(): DiskRange[] {
    return this.stretches(0);
  }

  /** Stretches that hold data; holes of up to `bridge` blocks between them are part of them. */
  private stretches(bridge: number): [number, number][] {
    const ranges: [number, number][] = [];
    let end = -1;
    for (let block = this.holds.indexOf(1); block >= 0; block = this.holds.indexOf(1, block + 1)) {
      const offset = block * imageBlock;
      const last = ranges.at(-1);
      if (last && block - end <= bridge) last[1] = offset + this.lengthOf(block) - last[0];
      else ranges.push([offset, this.lengthOf(block)]);
      end = block + 1;
    }
    return ranges;
  }

  /** Ranges and content as an entry holds them. */
  stored(put: PutChunk): Pick<TreeEntry, 'ranges' | 'content'> {
    const ranges = this.stretches(smallHole);
    if (!ranges.length) return { ranges };
    const blocksOf = (length: number) => Math.ceil(length / imageBlock);
    const names = Buffer.allocUnsafe(ranges.reduce((sum, [, length]) => sum + blocksOf(length), 0) * nameBytes);
    const lengths: number[] = [];
    let zeros: Buffer | undefined;
    for (const [offset, length] of ranges) {
      const first = offset / imageBlock;
      this.names.copy(names, lengths.length * nameBytes, first * nameBytes, (first + blocksOf(length)) * nameBytes);
      for (let block = first; block < first + blocksOf(length); block++) {
        if (!this.holds[block]) (zeros ??= put(zeroBlock)).copy(names, lengths.length * nameBytes);
        lengths.push(this.lengthOf(block));
      }
    }
    return { ranges, content: storeContent(put, { names, lengths }) };
  }
}

/** A block of zeros. */
export const zeroBlock = Buffer.alloc(imageBlock);
