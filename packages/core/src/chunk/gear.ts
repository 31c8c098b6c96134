/**
 * Content-defined cutting with a gear hash and normalized chunking: below the mean a cut needs more zero bits than above it,
 * which narrows the spread of sizes. The table is derived from a seed, so that cut points tell nothing without the domain's key.
 * Formula: h = (h << 1) + table[byte]; cut where h & mask == 0 (W. Xia et al., "FastCDC", USENIX ATC 2016).
 */
export interface CutSizes {
  /** Bytes; no cut before. */
  readonly min: number;
  /** Bytes; the mask changes here. */
  readonly mean: number;
  /** Bytes; a cut is forced here. */
  readonly max: number;
}

export const streamSizes: CutSizes = { min: 512 * 1024, mean: 1024 * 1024, max: 4 * 1024 * 1024 };

/** 256 pseudo-random 32-bit numbers from a 32-byte seed (xoshiro128**); signed, as adding those stays in machine integers. */
export function gearTable(seed: Uint8Array): Int32Array {
  const view = new DataView(seed.buffer, seed.byteOffset, seed.byteLength);
  let a = view.getUint32(0, true) | 1;
  let b = view.getUint32(4, true);
  let c = view.getUint32(8, true);
  let d = view.getUint32(12, true);
  const rotl = (x: number, k: number) => ((x << k) | (x >>> (32 - k))) >>> 0;
  const table = new Int32Array(256);
  for (let i = 0; i < 256; i++) {
    table[i] = Math.imul(rotl(Math.imul(b, 5) >>> 0, 7), 9);
    const t = (b << 9) >>> 0;
    c ^= a;
    d ^= b;
    b ^= c;
    a ^= d;
    c ^= t;
    d = rotl(d >>> 0, 11);
  }
  return table;
}

/** The masks below the mean size (one more zero bit) and above it (one less). */
export function cutMasks(sizes: CutSizes): { strict: number; loose: number } {
  const bits = Math.round(Math.log2(sizes.mean));
  return { strict: maskOf(bits + 1), loose: maskOf(bits - 1) };
}

function maskOf(bits: number): number {
  return bits <= 0 ? 0 : 0xffffffff << (32 - bits);
}

/**
 * Length of the first chunk of `data[from..to)`, in bytes. When no cut is found before `to`, returns `to - from`: the caller decides
 * whether the stream has ended there or more data must be read first (it must when the length is below `sizes.max`).
 */
export function nextCut(data: Uint8Array, from: number, to: number, table: Int32Array, sizes: CutSizes): number {
  const length = to - from;
  if (length <= sizes.min) return length;
  const { strict, loose } = cutMasks(sizes);
  const middle = from + Math.min(length, sizes.mean);
  const end = from + Math.min(length, sizes.max);
  let hash = 0;
  let i = from + sizes.min;
  for (; i < middle; i++) {
    hash = ((hash << 1) + table[data[i]!]!) | 0;
    if ((hash & strict) === 0) return i + 1 - from;
  }
  for (; i < end; i++) {
    hash = ((hash << 1) + table[data[i]!]!) | 0;
    if ((hash & loose) === 0) return i + 1 - from;
  }
  return end - from;
}
