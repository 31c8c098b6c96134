/** Chunks of a file at an earlier point, in order. */
export interface EarlierChunks {
  /** 32 bytes each. */
  readonly names: Uint8Array;
  readonly lengths: readonly number[];
}

/**
 * Where a file was cut at an earlier point. A chunk that begins where one began and holds the same bytes ends where that one ended, as cutting goes by the bytes from its
 * beginning on; comparing sums costs a fraction of looking for the cut. Not so for the last one: it may have ended with the file.
 */
export class KnownCuts {
  private index = 0;
  private begin = 0;

  constructor(private readonly earlier: EarlierChunks | undefined) {}

  /** Length of the chunk that began at `position`, in bytes; undefined where none did. Positions only rise. */
  lengthAt(position: number): number | undefined {
    if (!this.earlier) return undefined;
    const { lengths } = this.earlier;
    while (this.begin < position && this.index < lengths.length) this.begin += lengths[this.index++]!;
    return this.begin === position && this.index < lengths.length - 1 ? lengths[this.index] : undefined;
  }

  /** Whether the chunk asked for last had this name. */
  holds(name: Buffer): boolean {
    return name.equals(this.earlier!.names.subarray(this.index * 32, this.index * 32 + 32));
  }
}
