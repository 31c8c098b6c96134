import { randomUUID } from 'node:crypto';
import fs from 'node:fs';
import { PlatformError } from './platform-error';
import { visitData } from './sparse-file';

/** Changes are known by blocks of this size, in bytes. */
export const blockBytes = 65_536;

export type Range = readonly [offset: number, length: number];

interface DiskSnapshot {
  /** Blocks of this or an earlier generation were written before the snapshot. */
  readonly generation: number;
  /** What the blocks held that were written since, at their own places, and of which generation that was. */
  readonly before: Map<number, number>;
  readonly fd: number;
}

/** Blocks as ranges of bytes, those side by side put together. */
function rangesOf(blocks: readonly number[], size: number): Range[] {
  const ranges: [number, number][] = [];
  for (const block of blocks) {
    const offset = block * blockBytes;
    const length = Math.min(blockBytes, size - offset);
    const last = ranges.at(-1);
    if (last && last[0] + last[1] === offset) last[1] += length;
    else ranges.push([offset, length]);
  }
  return ranges;
}

/**
 * A disk of a machine as a sparse file, with a generation for each block: which snapshot it was last written after. A snapshot keeps what is written over meanwhile in a
 * file of its own.
 */
export class BlockDisk {
  private readonly fd: number;
  private readonly generations: Uint32Array;
  private readonly snapshots = new Map<string, DiskSnapshot>();
  /** Of the next writes; 0 stands for "never written". */
  private generation = 1;
  /** Names the time since which changes are known. */
  private tracking = randomUUID();
  /** Bytes that were read and written through the platform so far. */
  read = 0;
  written = 0;
  /** Blocks that were ever written. */
  private used = 0;

  private constructor(
    private readonly file: string,
    /** Bytes. */
    readonly size: number,
  ) {
    this.fd = fs.openSync(file, 'r+');
    this.generations = new Uint32Array(Math.ceil(size / blockBytes));
  }

  /** An empty disk. */
  static create(file: string, size: number): BlockDisk {
    fs.writeFileSync(file, '', { flag: 'wx' });
    fs.truncateSync(file, size);
    return new BlockDisk(file, size);
  }

  /** The disk of a file that is there. What was tracked before is forgotten, as after a loss of power. */
  static open(file: string): BlockDisk {
    const disk = new BlockDisk(file, fs.statSync(file).size);
    visitData(disk.fd, (from, to) => {
      disk.generations.fill(1, Math.floor(from / blockBytes), Math.ceil(to / blockBytes));
    });
    disk.used = disk.generations.reduce((sum, g) => sum + g, 0);
    return disk;
  }

  /** Bytes that were ever written, in whole blocks. */
  get usedBytes(): number {
    return this.used * blockBytes;
  }

  close(): void {
    for (const id of [...this.snapshots.keys()]) this.dropSnapshot(id);
    fs.closeSync(this.fd);
  }

  remove(): void {
    this.close();
    fs.rmSync(this.file, { force: true });
  }

  private checkRange(offset: number, length: number): void {
    if (!Number.isSafeInteger(offset) || !Number.isSafeInteger(length) || offset < 0 || length < 0 || offset + length > this.size)
      throw new PlatformError('INVALID', 'a range lies outside the disk');
  }

  private *blocksOf(offset: number, length: number): Generator<number> {
    for (let block = Math.floor(offset / blockBytes); block * blockBytes < offset + length; block++) yield block;
  }

  /** Writes bytes of a machine at work, or of a restore. */
  write(offset: number, data: Uint8Array): void {
    this.checkRange(offset, data.length);
    for (const block of this.blocksOf(offset, data.length)) {
      this.keepFor(block);
      if (this.generations[block] === 0) this.used++;
      this.generations[block] = this.generation;
    }
    fs.writeSync(this.fd, data, 0, data.length, offset);
    this.written += data.length;
  }

  /** Takes note of what is about to be written beside the platform, where the disk lies. */
  announce(ranges: readonly Range[]): void {
    for (const [offset, length] of ranges) {
      this.checkRange(offset, length);
      for (const block of this.blocksOf(offset, length)) {
        this.keepFor(block);
        if (this.generations[block] === 0) this.used++;
        this.generations[block] = this.generation;
      }
      this.written += length;
    }
  }

  /** Marks blocks that hold something that is not here yet. */
  holds(from: number, to: number): void {
    for (let block = from; block < to; block++) {
      if (this.generations[block] !== 0) continue;
      this.generations[block] = 1;
      this.used++;
    }
  }

  /** Takes in what such blocks hold, which is no change. */
  fill(offset: number, data: Uint8Array): void {
    this.checkRange(offset, data.length);
    fs.writeSync(this.fd, data, 0, data.length, offset);
  }

  /** Before a block is written: the snapshots that have not yet get what it holds. */
  private keepFor(block: number): void {
    let held: Buffer | undefined;
    for (const snapshot of this.snapshots.values()) {
      if (snapshot.before.has(block)) continue;
      snapshot.before.set(block, this.generations[block]!);
      if (this.generations[block] === 0) continue;
      held ??= this.live(block * blockBytes, blockBytes);
      fs.writeSync(snapshot.fd, held, 0, held.length, block * blockBytes);
    }
  }

  private live(offset: number, length: number): Buffer {
    const data = Buffer.allocUnsafe(Math.min(length, this.size - offset));
    fs.readSync(this.fd, data, 0, data.length, offset);
    return data;
  }

  /** Takes a snapshot and returns the id that changes since are asked for by. */
  takeSnapshot(id: string): string {
    const fd = fs.openSync(`${this.file}.${id}`, 'w+');
    this.snapshots.set(id, { generation: this.generation++, before: new Map(), fd });
    return this.changeId(id);
  }

  changeId(id: string): string {
    return `${this.tracking}/${this.snapshot(id).generation}`;
  }

  private snapshot(id: string): DiskSnapshot {
    const found = this.snapshots.get(id);
    if (!found) throw new PlatformError('NOT_FOUND', 'the snapshot is not there');
    return found;
  }

  dropSnapshot(id: string): void {
    const found = this.snapshots.get(id);
    if (!found) return;
    this.snapshots.delete(id);
    fs.closeSync(found.fd);
    fs.rmSync(`${this.file}.${id}`, { force: true });
  }

  /** The snapshot's bytes; those of the disk as it is now without one. */
  bytes(offset: number, length: number, id?: string): Buffer {
    this.checkRange(offset, length);
    const data = this.live(offset, length);
    this.read += data.length;
    if (id === undefined) return data;
    const { before, fd } = this.snapshot(id);
    if (before.size)
      for (const block of this.blocksOf(offset, length)) {
        if (!before.has(block)) continue;
        const from = Math.max(offset, block * blockBytes);
        const to = Math.min(offset + length, (block + 1) * blockBytes);
        if (before.get(block) === 0) data.fill(0, from - offset, to - offset);
        else fs.readSync(fd, data, from - offset, to - from, from);
      }
    return data;
  }

  /** Ranges that were ever written, of a snapshot or of the disk as it is now. */
  allocated(id?: string): Range[] {
    return this.since(0, id);
  }

  /** Ranges written since an earlier snapshot. Throws CHANGES_UNKNOWN when that is not known any more. */
  changed(changeId: string, id?: string): Range[] {
    const [tracking, generation] = changeId.split('/');
    if (tracking !== this.tracking) throw new PlatformError('CHANGES_UNKNOWN', 'changes since then were not recorded');
    return this.since(Number(generation), id);
  }

  private since(generation: number, id: string | undefined): Range[] {
    const before = id === undefined ? undefined : this.snapshot(id).before;
    const blocks: number[] = [];
    for (let block = 0; block < this.generations.length; block++) {
      const written = before?.get(block) ?? this.generations[block]!;
      if (written > generation) blocks.push(block);
    }
    return rangesOf(blocks, this.size);
  }

  /** What happens after a loss of power, or when the disk is moved. */
  forgetChanges(): void {
    this.tracking = randomUUID();
  }
}
