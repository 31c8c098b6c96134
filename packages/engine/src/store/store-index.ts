import { encodeSegment, decodeSegment } from '../format/index-segment';
import type { BlockPlace, PackToc } from '../format/toc';
import { ChunkIndex } from '../index/chunk-index';
import type { KeySet } from '../keys/key-set';
import { readCondemned } from '../prune/condemned';
import type { Target } from '../targets/target';

const packsPerSegment = 8;

interface Loaded {
  readonly chunks: ChunkIndex;
  readonly packs: { readonly packId: Buffer; readonly blocks: readonly BlockPlace[] }[];
  readonly segments: Set<string>;
}

const nothing = (): Loaded => ({ chunks: new ChunkIndex(), packs: [], segments: new Set() });

/** All chunks that the index segments of a target know, refreshed by what is new. */
export class StoreIndex {
  private loaded = nothing();
  private condemned: ReadonlySet<string> = new Set();
  private unwritten: PackToc[] = [];
  private refreshing: Promise<void> = Promise.resolve();

  constructor(
    private readonly keys: KeySet,
    private readonly target: Target,
  ) {}

  get chunks(): ChunkIndex {
    return this.loaded.chunks;
  }

  get packs(): Loaded['packs'] {
    return this.loaded.packs;
  }

  /** Whether the pack of this number is to be deleted, so that nothing new may build on it. */
  isCondemned(pack: number): boolean {
    return this.condemned.size > 0 && this.condemned.has(this.packs[pack]!.packId.toString('hex'));
  }

  /**
   * Loads what appeared since the last call: condemned packs and segments. When a segment was taken away, everything is loaded anew and takes the place of what was known at
   * once, so that readers never see a part.
   */
  async refresh(): Promise<void> {
    const mine = this.refreshing.then(() => this.load());
    this.refreshing = mine.catch(() => undefined);
    return mine;
  }

  private async load(): Promise<void> {
    this.condemned = new Set((await readCondemned(this.keys, this.target)).flatMap((r) => r.packs));
    const names = await this.target.list('index/');
    const present = new Set(names);
    const kept = [...this.loaded.segments].every((name) => present.has(name));
    const into = kept ? this.loaded : nothing();
    for (const name of names) {
      if (into.segments.has(name)) continue;
      for (const toc of decodeSegment(this.keys, name, await this.target.read(`index/${name}`))) this.learn(toc, into);
      into.segments.add(name);
    }
    if (kept) return;
    for (const toc of this.unwritten) this.learn(toc, into);
    this.loaded = into;
    this.target.close();
  }

  /** The tables of contents of all packs, as the segments on the target have them. Throws OBJECT_DAMAGED for a segment that is. */
  async *tocs(): AsyncGenerator<PackToc> {
    for (const name of await this.target.list('index/'))
      yield* decodeSegment(this.keys, `index/${name}`, await this.target.read(`index/${name}`));
  }

  private learn(toc: PackToc, into = this.loaded): void {
    const pack = into.packs.length;
    into.packs.push({ packId: toc.packId, blocks: toc.blocks });
    const leave = (other: number) => this.condemned.size > 0 && this.condemned.has(into.packs[other]!.packId.toString('hex'));
    for (const chunk of toc.chunks)
      into.chunks.add(chunk.name, { pack, block: chunk.block, offset: chunk.offset, length: chunk.length }, leave);
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
    const tocs = [...this.unwritten];
    const { name, file } = encodeSegment(this.keys, tocs);
    await this.target.put(name, file);
    this.unwritten = this.unwritten.filter((toc) => !tocs.includes(toc));
    this.loaded.segments.add(name.slice('index/'.length));
    return file.length;
  }
}
