const words = 4;

/** A set of chunk names by their first 128 bits: open addressing in one typed array that grows, 16 bytes a slot. Exact, unlike a claim table. */
export class NameSet {
  private table = new Uint32Array(4096 * words);
  private mask = 4095;
  size = 0;

  private slotOf(table: Uint32Array, mask: number, k0: number, k1: number, k2: number, k3: number): number {
    for (let i = k0 & mask; ; i = (i + 1) & mask) {
      const at = i * words;
      const first = table[at]!;
      if (first === 0 || (first === k0 && table[at + 1] === k1 && table[at + 2] === k2 && table[at + 3] === k3)) return at;
    }
  }

  private find(name: Buffer): number {
    const k0 = name.readUInt32LE(0) || 1;
    return this.slotOf(this.table, this.mask, k0, name.readUInt32LE(4), name.readUInt32LE(8), name.readUInt32LE(12));
  }

  has(name: Buffer): boolean {
    return this.table[this.find(name)] !== 0;
  }

  /** True when the name was not in the set. */
  add(name: Buffer): boolean {
    if (this.size * 1.5 > this.mask) this.grow();
    const at = this.find(name);
    if (this.table[at] !== 0) return false;
    this.table[at] = name.readUInt32LE(0) || 1;
    for (let w = 1; w < words; w++) this.table[at + w] = name.readUInt32LE(w * 4);
    this.size++;
    return true;
  }

  private grow(): void {
    const mask = this.mask * 2 + 1;
    const table = new Uint32Array((mask + 1) * words);
    const old = this.table;
    for (let at = 0; at < old.length; at += words) {
      if (old[at] === 0) continue;
      const to = this.slotOf(table, mask, old[at]!, old[at + 1]!, old[at + 2]!, old[at + 3]!);
      table.set(old.subarray(at, at + words), to);
    }
    this.table = table;
    this.mask = mask;
  }
}
