import { PackBuilder, packName, threadScratch } from '../format/pack';
import type { PackToc, TocChunk } from '../format/toc';
import type { KeySet } from '../keys/key-set';
import { keyedHash } from '../native/blake3';
import { paceOf, type Pace } from '../targets/pace';
import type { Target } from '../targets/target';

const gatherLimit = 1 << 20;
const mostGathered = 4096;

export interface WriteCounts {
  /** New bytes before compression. */
  fresh: number;
  /** Bytes written to the target. */
  stored: number;
}

/** Small chunks on their way to become one block. */
class Gathering {
  private readonly buffer = Buffer.allocUnsafe(gatherLimit);
  private length = 0;
  private chunks: Omit<TocChunk, 'block'>[] = [];

  fits(length: number): boolean {
    return this.length + length <= gatherLimit && this.chunks.length < mostGathered;
  }

  add(name: Buffer, data: Uint8Array): void {
    this.buffer.set(data, this.length);
    this.chunks.push({ name, offset: this.length, length: data.length });
    this.length += data.length;
  }

  /** Hands over what has been gathered, if anything, and begins anew. */
  close(block: (raw: Buffer, chunks: readonly Omit<TocChunk, 'block'>[]) => void): void {
    if (this.chunks.length === 0) return;
    block(this.buffer.subarray(0, this.length), this.chunks);
    this.length = 0;
    this.chunks = [];
  }
}

/**
 * Names chunks, stores the ones that `claim` calls new, gathers small ones into blocks of about 1 MiB and blocks into packs; what does not compress is kept apart
 * from the rest and not tried. `put` never waits; call `drain` after it, which writes the packs that are full.
 */
export class ChunkWriter {
  readonly counts: WriteCounts = { fresh: 0, stored: 0 };
  private readonly usual = new Gathering();
  private readonly dense = new Gathering();
  private pack: PackBuilder | undefined;
  private readonly pace: Pace | undefined;

  constructor(
    private readonly keys: KeySet,
    private readonly target: Target,
    private readonly claim: (name: Buffer) => boolean,
    private readonly onPack: (toc: PackToc) => void,
  ) {
    this.pace = paceOf(target.place);
  }

  /** The 32-byte name of a chunk. */
  name(data: Uint8Array): Buffer {
    return keyedHash(this.keys.nameKey, data);
  }

  /**
   * Stores a chunk of at most 4 MiB if it is new and returns its name, which who knows it already passes. A `dense` one is not compressed. The data is copied before this
   * returns.
   */
  put(data: Uint8Array, dense = false, name = this.name(data)): Buffer {
    if (!this.claim(name)) return name;
    this.counts.fresh += data.length;
    if (data.length >= gatherLimit / 2) {
      this.current().add(data, [{ name, offset: 0, length: data.length }], dense);
      return name;
    }
    const gathering = dense ? this.dense : this.usual;
    if (!gathering.fits(data.length)) this.closeBlock(gathering);
    gathering.add(name, data);
    return name;
  }

  private current(): PackBuilder {
    this.pack ??= new PackBuilder(this.keys, threadScratch);
    return this.pack;
  }

  private closeBlock(gathering: Gathering): void {
    gathering.close((raw, chunks) => {
      this.current().add(raw, chunks, gathering === this.dense);
    });
  }

  /** True when the pack has reached its size and {@link drain} must run before the next put. */
  get full(): boolean {
    return this.pack?.full ?? false;
  }

  /** Writes the pack if it is full. */
  async drain(): Promise<void> {
    if (this.full) await this.writePack();
  }

  /** Writes everything that is left. */
  async finish(): Promise<void> {
    this.closeBlock(this.usual);
    this.closeBlock(this.dense);
    await this.writePack();
    threadScratch.rest();
  }

  private async writePack(): Promise<void> {
    if (!this.pack || this.pack.empty) return;
    const { file, toc, release } = this.pack.finish();
    this.pack = undefined;
    await this.pace?.take(file.length);
    await this.target.put(packName(toc.packId), file);
    this.counts.stored += file.length;
    release();
    this.onPack(toc);
  }
}
