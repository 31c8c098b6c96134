import type { ChunkIndex } from './chunk-index';

const words = 4;
/** Of the run before, to be used again: each new one would take its memory until the collector finds the old one. */
let spare: SharedArrayBuffer | undefined;

function memoryOf(bytes: number): SharedArrayBuffer {
  const memory = spare;
  spare = undefined;
  if (memory?.byteLength !== bytes) return new SharedArrayBuffer(bytes);
  new Uint8Array(memory).fill(0);
  return memory;
}

/**
 * Which chunks the run may take as stored, shared between threads without messages: 16 bytes a slot on a SharedArrayBuffer, a slot is claimed by
 * compare-and-exchange on its first word. Two threads that meet on the same new chunk at the same instant may both store it: that costs room, never
 * correctness. A full table claims everything as new.
 */
export class ClaimTable {
  private readonly table: Int32Array;
  private readonly mask: number;

  constructor(readonly memory: SharedArrayBuffer) {
    this.table = new Int32Array(memory);
    this.mask = this.table.length / words - 1;
  }

  /** A table holding all of `index` but the chunks in packs to `skip`, with room for `expected` new chunks. */
  static over(index: ChunkIndex, expected: number, skip: (pack: number) => boolean = () => false): ClaimTable {
    const capacity = 2 ** Math.ceil(Math.log2(Math.max(4096, (index.size + expected) * 1.5)));
    const claims = new ClaimTable(memoryOf(capacity * words * 4));
    index.forEachKey((k0, k1, k2, k3, pack) => {
      if (!skip(pack)) claims.put(k0 | 0, k1 | 0, k2 | 0, k3 | 0);
    });
    return claims;
  }

  /** {@link claim} by itself. */
  readonly claims = (name: Buffer): boolean => this.claim(name);

  /** Nobody uses it any more. */
  release(): void {
    spare = this.memory;
  }

  /** True when the chunk is new and the caller has to store it. */
  claim(name: Buffer): boolean {
    return this.claimWords(name.readInt32LE(0) || 1, name.readInt32LE(4), name.readInt32LE(8), name.readInt32LE(12));
  }

  /** The same without looking, while no other thread has the table. */
  private put(k0: number, k1: number, k2: number, k3: number): void {
    const t = this.table;
    let at = (k0 & this.mask) * words;
    while (t[at] !== 0) at = (at + words) & (t.length - 1);
    t[at] = k0;
    t[at + 1] = k1;
    t[at + 2] = k2;
    t[at + 3] = k3;
  }

  private claimWords(k0: number, k1: number, k2: number, k3: number): boolean {
    const t = this.table;
    for (let i = k0 & this.mask, tries = 0; tries < 256; i = (i + 1) & this.mask, tries++) {
      const at = i * words;
      const first = Atomics.compareExchange(t, at, 0, k0);
      if (first === 0) {
        Atomics.store(t, at + 1, k1);
        Atomics.store(t, at + 2, k2);
        Atomics.store(t, at + 3, k3);
        return true;
      }
      if (first === k0 && Atomics.load(t, at + 1) === k1 && Atomics.load(t, at + 2) === k2 && Atomics.load(t, at + 3) === k3) return false;
    }
    return true;
  }
}
