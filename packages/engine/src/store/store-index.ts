import { encodeSegment, decodeSegment } from '../format/index-segment';
import type { BlockPlace, PackToc } from '../format/toc';
import { ChunkIndex } from '../index/chunk-index';
import type { KeySet } from '../keys/key-set';
import type { Target } from '../targets/target';

const packsPerSegment = 8;

/** All chunks that the index segments of a target know, refreshed by what is new. */
export class StoreIndex {
  readonly chunks = new ChunkIndex();
  readonly packs: { readonly packId: Buffer; readonly blocks: readonly BlockPlace[] }[] = [];
  private readonly loaded = new Set<string>();
  private unwritten: PackToc[] = [];

  constructor(
    private readonly keys: KeySet,
    private readonly target: Target,
  ) {}

  /** Loads the segments that appeared since the last call. */
  async refresh(): Promise<void> {
    for (const name of await this.target.list('index/')) {
      if (this.loaded.has(name)) continue;
      for (const toc of decodeSegment(this.keys, name, await this.target.read(`index/${name}`))) this.learn(toc);
      this.loaded.add(name);
    }
  }

  private learn(toc: PackToc): void {
    const pack = this.packs.length;
    this.packs.push({ packId: toc.packId, blocks: toc.blocks });
    for (const chunk of toc.chunks) this.chunks.add(chunk.name, { pack, block: chunk.block, offset: chunk.offset, length: chunk.length });
  }

  /** Takes up a pack that has just been written. Returns true when a checkpoint is due. */
  written(toc: PackToc): boolean {
    this.learn(toc);
    this.unwritten.push(toc);
    return this.unwritten.length >= packsPerSegment;
  }

  /** Writes a segment for the packs not yet covered by one; after it an interrupted run can reuse their chunks. */
  async checkpoint(): Promise<number> {
    if (!this.unwritten.length) return 0;
    const tocs = this.unwritten;
    this.unwritten = [];
    const { name, file } = encodeSegment(this.keys, tocs);
    await this.target.put(name, file);
    this.loaded.add(name.slice('index/'.length));
    return file.length;
  }
}
