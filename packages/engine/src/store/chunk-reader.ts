import { EngineError } from '../errors';
import { openBlock, packName } from '../format/pack';
import type { KeySet } from '../keys/key-set';
import { keyedHash } from '../native/blake3';
import type { Target } from '../targets/target';
import type { StoreIndex } from './store-index';

const cacheBytes = 64 << 20;

/** Reads chunks by name, checks the tag of their block and their own sum every time, and keeps recently used blocks. */
export class ChunkReader {
  private readonly blocks = new Map<string, Buffer>();
  private cached = 0;
  /** Bytes read from the target so far. */
  bytesRead = 0;

  constructor(
    private readonly keys: KeySet,
    private readonly target: Target,
    private readonly index: StoreIndex,
  ) {}

  /** Throws CHUNK_MISSING, OBJECT_MISSING or OBJECT_DAMAGED. The buffer must not be changed. */
  async read(name: Buffer): Promise<Buffer> {
    const place = this.index.chunks.find(name);
    if (!place) throw new EngineError('CHUNK_MISSING', name.toString('hex').slice(0, 16));
    const id = `${place.pack}.${place.block}`;
    let block = this.blocks.get(id);
    if (block) {
      this.blocks.delete(id);
      this.blocks.set(id, block);
    } else {
      const pack = this.index.packs[place.pack]!;
      const at = pack.blocks[place.block]!;
      const stored = await this.target.readRange(packName(pack.packId), at.offset, at.stored);
      this.bytesRead += stored.length;
      block = openBlock(this.keys, pack.packId, place.block, at, stored);
      this.keep(id, block);
    }
    const data = block.subarray(place.offset, place.offset + place.length);
    if (!keyedHash(this.keys.nameKey, data).equals(name))
      throw new EngineError('OBJECT_DAMAGED', `chunk ${name.toString('hex').slice(0, 16)}`);
    return data;
  }

  private keep(id: string, block: Buffer): void {
    this.blocks.set(id, block);
    this.cached += block.length;
    for (const [oldest, data] of this.blocks) {
      if (this.cached <= cacheBytes) break;
      this.blocks.delete(oldest);
      this.cached -= data.length;
    }
  }
}
