import { PackBuilder, Scratch, packName } from '../format/pack';
import type { PackToc, TocChunk } from '../format/toc';
import type { KeySet } from '../keys/key-set';
import { keyedHash } from '../native/blake3';
import type { Target } from '../targets/target';

const gatherLimit = 1 << 20;

export interface WriteCounts {
  /** New bytes before compression. */
  fresh: number;
  /** Bytes written to the target. */
  stored: number;
}

/**
 * Names chunks, stores the ones that `claim` calls new, gathers small ones into blocks of about 1 MiB and blocks into packs. `put` never waits;
 * call `drain` after it, which writes the packs that are full.
 */
export class ChunkWriter {
  readonly counts: WriteCounts = { fresh: 0, stored: 0 };
  private readonly gather = Buffer.allocUnsafe(gatherLimit);
  private gathered = 0;
  private waiting: Omit<TocChunk, 'block'>[] = [];
  private pack: PackBuilder | undefined;

  constructor(
    private readonly keys: KeySet,
    private readonly target: Target,
    private readonly claim: (name: Buffer) => boolean,
    private readonly onPack: (toc: PackToc) => void,
    private readonly scratch = new Scratch(),
  ) {}

  /** Stores a chunk of at most 4 MiB if it is new and returns its 32-byte name. The data is copied before this returns. */
  put(data: Uint8Array): Buffer {
    const name = keyedHash(this.keys.nameKey, data);
    if (!this.claim(name)) return name;
    this.counts.fresh += data.length;
    if (data.length >= gatherLimit / 2) {
      this.current().add(data, [{ name, offset: 0, length: data.length }]);
      return name;
    }
    if (this.gathered + data.length > gatherLimit) this.closeBlock();
    this.gather.set(data, this.gathered);
    this.waiting.push({ name, offset: this.gathered, length: data.length });
    this.gathered += data.length;
    return name;
  }

  private current(): PackBuilder {
    this.pack ??= new PackBuilder(this.keys, this.scratch);
    return this.pack;
  }

  private closeBlock(): void {
    if (this.waiting.length === 0) return;
    this.current().add(this.gather.subarray(0, this.gathered), this.waiting);
    this.gathered = 0;
    this.waiting = [];
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
    this.closeBlock();
    await this.writePack();
  }

  private async writePack(): Promise<void> {
    if (!this.pack || this.pack.empty) return;
    const { file, toc, release } = this.pack.finish();
    this.pack = undefined;
    await this.target.put(packName(toc.packId), file);
    this.counts.stored += file.length;
    release();
    this.onPack(toc);
  }
}
