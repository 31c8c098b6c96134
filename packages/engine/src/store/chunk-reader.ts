import { EngineError } from '../errors';
import { openBlock, packName } from '../format/pack';
import type { BlockPlace } from '../format/toc';
import type { KeySet } from '../keys/key-set';
import { keyedHash } from '../native/blake3';
import type { Target } from '../targets/target';
import { helpsElsewhere } from './loss';
import type { StoreIndex } from './store-index';

const usualCache = 16 << 20;

/** Where a chunk lies, with all that is needed to read it. */
export interface ChunkLocation {
  /** See {@link blockId}. */
  readonly id: string;
  /** 16 bytes. */
  readonly packId: Buffer;
  readonly block: number;
  readonly at: BlockPlace;
  /** Place in the decompressed block, in bytes. */
  readonly offset: number;
  readonly length: number;
}

/** What tells a block from all others. */
export function blockId(packId: Buffer, block: number): string {
  return `${packId.toString('latin1')}${block}`;
}

/** Memory for blocks. */
interface BlockMemory {
  take(bytes: number): Buffer;
  give(memory: Buffer): void;
}

/** New memory for every block: whoever was given a part of one may keep it. */
const freshMemory: BlockMemory = { take: (bytes) => Buffer.allocUnsafe(bytes), give: () => undefined };

/**
 * Memory that is used again and again, which is several times faster than new one. For a reader whose chunks are done with when the next one is asked for, as long as its cache
 * holds more than one block.
 */
export function reusedMemory(): BlockMemory {
  const least = 16;
  const free: Buffer[][] = [];
  const sizeOf = (bytes: number) => Math.max(least, Math.ceil(Math.log2(bytes)));
  return {
    take: (bytes) => free[sizeOf(bytes)]?.pop() ?? Buffer.allocUnsafeSlow(2 ** sizeOf(bytes)),
    give: (memory) => {
      (free[sizeOf(memory.length)] ??= []).push(memory);
    },
  };
}

interface KeptBlock {
  readonly memory: Buffer;
  readonly data: Buffer;
}

/** Reads chunks whose place is known, checks the tag of their block and their own sum every time, and keeps recently used blocks. */
export class BlockReader {
  private readonly blocks = new Map<string, KeptBlock>();
  private cached = 0;
  /** The block used last. */
  private newest = '';
  /** Bytes read from the target so far. */
  bytesRead = 0;

  constructor(
    private readonly keys: KeySet,
    private readonly target: Target,
    private readonly cacheBytes = usualCache,
    private readonly memory = freshMemory,
  ) {}

  /** A promise where the target has to be asked. Throws OBJECT_MISSING or OBJECT_DAMAGED. The buffer must not be changed. */
  chunk(name: Buffer, location: ChunkLocation): Buffer | Promise<Buffer> {
    const { id } = location;
    const known = this.blocks.get(id);
    if (!known) return this.load(location).then((block) => this.checked(name, location, block));
    if (id !== this.newest) {
      this.blocks.delete(id);
      this.blocks.set(id, known);
      this.newest = id;
    }
    return this.checked(name, location, known.data);
  }

  private checked(name: Buffer, { offset, length }: ChunkLocation, block: Buffer): Buffer {
    const data = block.subarray(offset, offset + length);
    if (!keyedHash(this.keys.nameKey, data).equals(name))
      throw new EngineError('OBJECT_DAMAGED', `chunk ${name.toString('hex').slice(0, 16)}`);
    return data;
  }

  private async load({ id, packId, block, at }: ChunkLocation): Promise<Buffer> {
    const lent = this.memory.take(at.stored);
    const memory = this.memory.take(at.raw);
    try {
      const stored = await this.target.readRange(packName(packId), at.offset, at.stored, lent);
      this.bytesRead += stored.length;
      const data = openBlock(this.keys, packId, block, at, stored, memory);
      this.keep(id, { memory, data });
      return data;
    } catch (error) {
      this.memory.give(memory);
      throw error;
    } finally {
      this.memory.give(lent);
    }
  }

  private keep(id: string, block: KeptBlock): void {
    this.blocks.set(id, block);
    this.newest = id;
    this.cached += block.data.length;
    for (const [oldest, { memory, data }] of this.blocks) {
      if (this.cached <= this.cacheBytes) break;
      this.blocks.delete(oldest);
      this.cached -= data.length;
      this.memory.give(memory);
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
    const { packId } = pack;
    const { block, offset, length } = place;
    return { id: blockId(packId, block), packId, block, at: pack.blocks[block]!, offset, length };
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

  /** Whether another pack of this target may have what a pack has lost. */
  private async isElsewhereHere(error: unknown, packId: Buffer): Promise<boolean> {
    if (!(error instanceof EngineError)) return false;
    if (error.code === 'OBJECT_MISSING') return this.index.missed(packId);
    return error.code === 'OBJECT_DAMAGED' && this.index.distrust(packId);
  }

  /** The same from this target alone, from another of its packs where one is gone or damaged. */
  async readHere(name: Buffer): Promise<Buffer> {
    const location = this.locate(name);
    try {
      return await this.blocks.chunk(name, location);
    } catch (error) {
      if (!(await this.isElsewhereHere(error, location.packId))) throw error;
      return await this.blocks.chunk(name, this.locate(name));
    }
  }
}
