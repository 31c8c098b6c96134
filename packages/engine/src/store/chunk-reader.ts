import { EngineError } from '../errors';
import { openBlock, packName } from '../format/pack';
import type { BlockPlace } from '../format/toc';
import type { KeySet } from '../keys/key-set';
import { keyedHash } from '../native/blake3';
import type { Target } from '../targets/target';
import { helpsElsewhere } from './loss';
import type { StoreIndex } from './store-index';

const usualCache = 32 << 20;

/** Where a chunk lies, with all that is needed to read it. */
export interface ChunkLocation {
  /** 16 bytes. */
  readonly packId: Buffer;
  readonly block: number;
  readonly at: BlockPlace;
  /** Place in the decompressed block, in bytes. */
  readonly offset: number;
  readonly length: number;
}

/** Reads chunks whose place is known, checks the tag of their block and their own sum every time, and keeps recently used blocks. */
export class BlockReader {
  private readonly blocks = new Map<string, Buffer>();
  private cached = 0;
  /** The block used last. */
  private newest = '';
  /** Bytes read from the target so far. */
  bytesRead = 0;

  constructor(
    private readonly keys: KeySet,
    private readonly target: Target,
    private readonly cacheBytes = usualCache,
  ) {}

  /** A promise where the target has to be asked. Throws OBJECT_MISSING or OBJECT_DAMAGED. The buffer must not be changed. */
  chunk(name: Buffer, location: ChunkLocation): Buffer | Promise<Buffer> {
    const id = `${location.packId.toString('latin1')}${location.block}`;
    const known = this.blocks.get(id);
    if (!known) return this.load(id, location).then((block) => this.checked(name, location, block));
    if (id !== this.newest) {
      this.blocks.delete(id);
      this.blocks.set(id, known);
      this.newest = id;
    }
    return this.checked(name, location, known);
  }

  private checked(name: Buffer, { offset, length }: ChunkLocation, block: Buffer): Buffer {
    const data = block.subarray(offset, offset + length);
    if (!keyedHash(this.keys.nameKey, data).equals(name))
      throw new EngineError('OBJECT_DAMAGED', `chunk ${name.toString('hex').slice(0, 16)}`);
    return data;
  }

  private async load(id: string, { packId, block: number, at }: ChunkLocation): Promise<Buffer> {
    const stored = await this.target.readRange(packName(packId), at.offset, at.stored);
    this.bytesRead += stored.length;
    const block = openBlock(this.keys, packId, number, at, stored);
    this.keep(id, block);
    return block;
  }

  private keep(id: string, block: Buffer): void {
    this.blocks.set(id, block);
    this.newest = id;
    this.cached += block.length;
    for (const [oldest, data] of this.blocks) {
      if (this.cached <= this.cacheBytes) break;
      this.blocks.delete(oldest);
      this.cached -= data.length;
    }
  }
}

/** Reads a chunk from somewhere else; undefined when it is not there either. */
export type Elsewhere = (name: Buffer) => Promise<Buffer | undefined>;

/** Reads chunks by name. */
export class ChunkReader {
  private readonly blocks: BlockReader;
  /** Where a chunk that is lost here may be had. */
  elsewhere: Elsewhere | undefined;

  constructor(
    keys: KeySet,
    target: Target,
    private readonly index: StoreIndex,
  ) {
    this.blocks = new BlockReader(keys, target);
  }

  /** Throws CHUNK_MISSING. */
  locate(name: Buffer): ChunkLocation {
    const place = this.index.chunks.find(name);
    if (!place) throw new EngineError('CHUNK_MISSING', name.toString('hex').slice(0, 16));
    const pack = this.index.packs[place.pack]!;
    return { packId: pack.packId, block: place.block, at: pack.blocks[place.block]!, offset: place.offset, length: place.length };
  }

  /** Throws CHUNK_MISSING, OBJECT_MISSING or OBJECT_DAMAGED, when it is lost elsewhere too. The buffer must not be changed. */
  async read(name: Buffer): Promise<Buffer> {
    try {
      return await this.readHere(name);
    } catch (error) {
      const found = helpsElsewhere(error) ? await this.elsewhere?.(name) : undefined;
      if (!found) throw error;
      return found;
    }
  }

  /** The same from this target alone. */
  async readHere(name: Buffer): Promise<Buffer> {
    const location = this.locate(name);
    try {
      return await this.blocks.chunk(name, location);
    } catch (error) {
      const gone = error instanceof EngineError && error.code === 'OBJECT_MISSING';
      if (!gone || !(await this.index.missed(location.packId))) throw error;
      return await this.blocks.chunk(name, this.locate(name));
    }
  }
}
