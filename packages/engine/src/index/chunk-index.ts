import type { PackToc } from '../format/toc';

/** Where a chunk lies: pack by number, block in the pack, place inside the decompressed block. */
export interface ChunkPlace {
  readonly pack: number;
  readonly block: number;
  readonly offset: number;
  readonly length: number;
}

const words = 8;

/**
 * Chunk names to places: open addressing in one typed array, 32 bytes a slot, keyed by the first 128 bits of the name.
 * A name whose first word is zero is stored with one, which costs at most a longer probe.
 */
export class ChunkIndex {
  private table: Uint32Array;
  private mask: number;
  size = 0;

  constructor(expected = 1024) {
    const capacity = 2 ** Math.ceil(Math.log2(Math.max(1024, expected * 1.6)));
    this.table = new Uint32Array(capacity * words);
    this.mask = capacity - 1;
  }

  private slotOf(table: Uint32Array, mask: number, k0: number, k1: number, k2: number, k3: number): number {
    for (let i = k0 & mask; ; i = (i + 1) & mask) {
      const at = i * words;
      const first = table[at]!;
      if (first === 0 || (first === k0 && table[at + 1] === k1 && table[at + 2] === k2 && table[at + 3] === k3)) return at;
    }
  }

  /** Adds the chunks of the pack with number `pack`; the place of a chunk known first stays, unless its pack is one to `leave`. */
  addAll(toc: PackToc, pack: number, leave: (pack: number) => boolean = () => false): void {
    this.reserve(toc.count);
    toc.each((names, at, block, offset, length) => {
      const k0 = names.readUInt32LE(at) || 1;
      const k1 = names.readUInt32LE(at + 4);
      const k2 = names.readUInt32LE(at + 8);
      const k3 = names.readUInt32LE(at + 12);
      const t = this.table;
      const slot = this.slotOf(t, this.mask, k0, k1, k2, k3);
      const known = t[slot] !== 0;
      if (known && !leave(t[slot + 4]!)) return;
      t[slot] = k0;
      t[slot + 1] = k1;
      t[slot + 2] = k2;
      t[slot + 3] = k3;
      t[slot + 4] = pack;
      t[slot + 5] = block;
      t[slot + 6] = offset;
      t[slot + 7] = length;
      if (!known) this.size++;
    });
  }

  find(name: Buffer): ChunkPlace | undefined {
    const k0 = name.readUInt32LE(0) || 1;
    const at = this.slotOf(this.table, this.mask, k0, name.readUInt32LE(4), name.readUInt32LE(8), name.readUInt32LE(12));
    if (this.table[at] === 0) return undefined;
    return { pack: this.table[at + 4]!, block: this.table[at + 5]!, offset: this.table[at + 6]!, length: this.table[at + 7]! };
  }

  /** Makes room for `more` chunks at once, which costs less than growing step by step. */
  reserve(more: number): void {
    if ((this.size + more) * 1.35 > this.mask) this.grow(2 ** Math.ceil(Math.log2((this.size + more) * 1.4)));
  }

  private grow(capacity: number): void {
    const table = new Uint32Array(capacity * words);
    const old = this.table;
    for (let at = 0; at < old.length; at += words) {
      if (old[at] === 0) continue;
      const to = this.slotOf(table, capacity - 1, old[at]!, old[at + 1]!, old[at + 2]!, old[at + 3]!);
      for (let i = 0; i < words; i++) table[to + i] = old[at + i]!;
    }
    this.table = table;
    this.mask = capacity - 1;
  }

  /** Calls `visit` with the four key words of every chunk and the number of its pack. */
  forEachKey(visit: (k0: number, k1: number, k2: number, k3: number, pack: number) => void): void {
    const t = this.table;
    for (let at = 0; at < t.length; at += words) if (t[at] !== 0) visit(t[at]!, t[at + 1]!, t[at + 2]!, t[at + 3]!, t[at + 4]!);
  }
}
