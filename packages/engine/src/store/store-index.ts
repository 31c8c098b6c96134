import { EngineError } from '../errors';
import { encodeSegment, decodeSegment } from '../format/index-segment';
import { packName, readPackToc } from '../format/pack';
import type { BlockPlace, PackToc } from '../format/toc';
import { ChunkIndex } from '../index/chunk-index';
import type { KeySet } from '../keys/key-set';
import { readCondemned } from '../prune/condemned';
import type { Target } from '../targets/target';
import { isLoss } from './loss';

/** How often segments are listed anew when one is gone before it could be read. */
const mostLists = 8;
const packsPerSegment = 8;
/** A segment is written sooner where chunks are tiny: it passes through memory several times. */
const chunksPerSegment = 1 << 17;

interface Loaded {
  readonly chunks: ChunkIndex;
  readonly packs: { readonly packId: Buffer; readonly blocks: readonly BlockPlace[] }[];
  readonly segments: Set<string>;
  /** Segments that can not be read, and what the packs that none of the others covers say themselves. */
  readonly damaged: Set<string>;
  readonly recovered: PackToc[];
}

const nothing = (): Loaded => ({ chunks: new ChunkIndex(), packs: [], segments: new Set(), damaged: new Set(), recovered: [] });

/** All chunks that the index segments of a target know, refreshed by what is new. */
export class StoreIndex {
  private loaded = nothing();
  private condemned: ReadonlySet<string> = new Set();
  /** Packs that the index names but that are gone. */
  private absent: ReadonlySet<string> = new Set();
  /** Packs of which a part was read that was damaged. */
  private readonly distrusted = new Set<string>();
  /** Packs to look for a chunk in only when no other has it: condemned, absent or distrusted ones. */
  private shunned: ReadonlySet<string> = new Set();
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

  /** Segments that can not be read. Their packs were asked instead; nothing new builds on those until the index is mended. */
  get damaged(): ReadonlySet<string> {
    return this.loaded.damaged;
  }

  /** Whether the pack of this number is to be deleted, gone, or not known to stay, so that nothing new may build on it. */
  isCondemned(pack: number): boolean {
    const { packs, damaged, recovered } = this.loaded;
    if (this.shunned.size > 0 && this.shunned.has(packs[pack]!.packId.toString('hex'))) return true;
    return damaged.size > 0 && recovered.some((toc) => toc.packId.equals(packs[pack]!.packId));
  }

  /** Whether a chunk is stored in a pack that stays. */
  holds(name: Buffer): boolean {
    const place = this.chunks.find(name);
    return place !== undefined && !this.isCondemned(place.pack);
  }

  /**
   * Loads what appeared since the last call: condemned packs and segments. When a segment was taken away or a pack condemned, everything is loaded anew and takes the place of what was known at
   * once, so that readers never see a part.
   */
  async refresh(): Promise<void> {
    const mine = this.refreshing.then(() => this.loadWhole());
    this.refreshing = mine.catch(() => undefined);
    return mine;
  }

  /**
   * Refreshes, then looks which of the known packs are really there, for those who are about to build on them. A prune that slept through the work of another can have written
   * back index entries of packs that are gone.
   */
  async confirm(): Promise<void> {
    await this.refresh();
    const present = new Set((await this.target.listDeep('packs/')).map((name) => name.slice(name.indexOf('/') + 1)));
    this.absent = new Set(this.packs.map((p) => p.packId.toString('hex')).filter((id) => !present.has(id)));
    if (this.absent.size) await this.refresh();
  }

  /** A pack was not there when it was read. True when something new was learned by it, so that a chunk may be found in another place. */
  async missed(packId: Buffer): Promise<boolean> {
    const id = packId.toString('hex');
    if (this.absent.has(id)) return false;
    await this.confirm();
    return this.absent.has(id);
  }

  /** What was read of a pack is damaged. True when that is news, so that a chunk may be found in another pack that has it too. */
  async distrust(packId: Buffer): Promise<boolean> {
    const id = packId.toString('hex');
    if (this.distrusted.has(id)) return false;
    this.distrusted.add(id);
    await this.refresh();
    return true;
  }

  /** A prune writes segments anew and takes the old ones away: one that went after it was listed is looked for in the next list. */
  private async loadWhole(): Promise<void> {
    for (let left = mostLists; ; left--)
      try {
        await this.load();
        return;
      } catch (error) {
        if (!left || !(error instanceof EngineError && error.code === 'OBJECT_MISSING')) throw error;
      }
  }

  private async load(): Promise<void> {
    this.condemned = new Set((await readCondemned(this.keys, this.target)).flatMap((r) => r.packs));
    const shunned = new Set([...this.condemned, ...this.absent, ...this.distrusted]);
    const others = [...shunned].every((id) => this.shunned.has(id));
    this.shunned = shunned;
    const names = await this.target.list('index/');
    const present = new Set(names);
    const kept = others && this.damaged.size === 0 && [...this.loaded.segments].every((name) => present.has(name));
    const into = kept ? this.loaded : nothing();
    const unknown = names.filter((name) => !into.segments.has(name));
    for (const [at, name] of unknown.entries()) {
      const tocs = await this.segment(name);
      // segments are much alike in size
      if (tocs && at === 0) into.chunks.reserve(unknown.length * tocs.reduce((sum, toc) => sum + toc.count, 0));
      if (tocs) for (const toc of tocs) this.learn(toc, into);
      (tocs ? into.segments : into.damaged).add(name);
    }
    if (into.damaged.size) await this.recover(into);
    if (kept) return;
    for (const toc of this.unwritten) this.learn(toc, into);
    this.loaded = into;
    this.target.close();
  }

  /** Tables of contents of a segment; undefined when it is damaged. */
  private async segment(name: string): Promise<PackToc[] | undefined> {
    try {
      return decodeSegment(this.keys, `index/${name}`, await this.target.read(`index/${name}`));
    } catch (error) {
      if (error instanceof EngineError && error.code === 'OBJECT_DAMAGED') return undefined;
      throw error;
    }
  }

  /** Asks the packs that no readable segment covers for their contents. Those that are damaged too stay unknown. */
  private async recover(into: Loaded): Promise<void> {
    for await (const toc of this.unnamed(into)) {
      this.learn(toc, into);
      into.recovered.push(toc);
    }
  }

  /** Contents of the packs that no segment names, from the packs themselves. */
  private async *unnamed(known: Loaded): AsyncGenerator<PackToc> {
    const named = new Set(known.packs.map((p) => p.packId.toString('hex')));
    for (const name of await this.target.listDeep('packs/')) {
      const id = name.slice(name.indexOf('/') + 1);
      if (named.has(id) || this.condemned.has(id)) continue;
      try {
        yield readPackToc(this.keys, await this.target.read(packName(Buffer.from(id, 'hex'))));
      } catch (error) {
        if (!isLoss(error)) throw error;
      }
    }
  }

  /**
   * Takes up packs that no segment names, as after a loss of segments. A pack that a run is just writing may be among them and is then named twice, which does no harm. All of it is
   * known to this index then, and after {@link checkpoint} to all. `news`: names of the chunks that no other pack holds.
   */
  async adopt(): Promise<{ packs: number; news: Buffer[] }> {
    await this.refresh();
    const found: PackToc[] = [];
    for await (const toc of this.unnamed(this.loaded)) found.push(toc);
    const news = found.flatMap((toc) =>
      toc
        .chunks()
        .map((c) => c.name)
        .filter((name) => !this.chunks.find(name)),
    );
    for (const toc of found) this.written(toc);
    return { packs: found.length, news };
  }

  /** Writes anew what damaged segments had, as far as the packs could tell, and takes those away. Returns how many were mended. */
  async mend(): Promise<number> {
    await this.refresh();
    const { damaged, recovered } = this.loaded;
    if (!damaged.size) return 0;
    for (let at = 0; at < recovered.length; at += packsPerSegment) {
      const { name, file } = encodeSegment(this.keys, recovered.slice(at, at + packsPerSegment));
      await this.target.put(name, file);
    }
    for (const name of damaged) await this.target.remove(`index/${name}`);
    await this.refresh();
    return damaged.size;
  }

  /** The tables of contents of all packs, as the segments on the target have them; some twice when a prune writes segments anew meanwhile. Throws OBJECT_DAMAGED while one of those is. */
  async *tocs(): AsyncGenerator<PackToc> {
    const done = new Set<string>();
    for (let left = mostLists; ; left--) {
      let missing: EngineError | undefined;
      for (const name of await this.target.list('index/')) {
        if (done.has(name)) continue;
        try {
          const tocs = await this.segment(name);
          if (!tocs) throw new EngineError('OBJECT_DAMAGED', `index/${name}`);
          done.add(name);
          yield* tocs;
        } catch (error) {
          if (!left || !(error instanceof EngineError && error.code === 'OBJECT_MISSING')) throw error;
          missing = error;
        }
      }
      if (!missing) return;
    }
  }

  private learn(toc: PackToc, into = this.loaded): void {
    const pack = into.packs.length;
    into.packs.push({ packId: toc.packId, blocks: toc.blocks });
    const leave = (other: number) => this.shunned.size > 0 && this.shunned.has(into.packs[other]!.packId.toString('hex'));
    into.chunks.addAll(toc, pack, leave);
  }

  /** Takes up a pack that has just been written. Returns true when a checkpoint is due. */
  written(toc: PackToc): boolean {
    this.learn(toc);
    this.unwritten.push(toc);
    return this.unwritten.length >= packsPerSegment || this.unwritten.reduce((sum, t) => sum + t.count, 0) >= chunksPerSegment;
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
