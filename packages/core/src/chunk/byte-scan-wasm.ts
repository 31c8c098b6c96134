import { functionsOf, i32, moduleOf, op, wasmMemory } from '../wasm/module';

/**
 * Three loops over bytes as a WebAssembly module, put together by hand: engines run them several times faster than the same loops over typed arrays. Memory: the gear
 * table at 0 (256 × i32), counters at 1024 (two sets of 256 × i32), the gear table doubled at 3072, data from 4096 on.
 */
export interface ByteScan {
  readonly memory: WebAssembly.Memory;
  /**
   * Gear hash over addresses `from` to `end`, with the mask `strict` below `middle` and `loose` from there on. The address after the first byte at which the masked
   * hash is zero, or 0 when there is none.
   */
  cut(from: number, middle: number, end: number, strict: number, loose: number): number;
  /** Adds the bytes of addresses `from` to `end` to the counters; how often a byte came is the sum of both sets. */
  count(from: number, end: number): void;
  /** Sum of the squares of how often each byte came, over counters `from` (0) to `end` (256); exact for up to 65 535 bytes counted. */
  squares(from: number, end: number): number;
}

export const scanLayout = { table: 0, counters: 1024, doubled: 3072, data: 4096 } as const;
const unrolled = 8;

/** (byte at i + k) × 4: where its number stands in a table */
const placeAt = (k: number, i: number) => [...op.get(i), ...op.loadByte(k), ...op.const(2), ...op.shl];

/** if ((hash & mask) = 0) return i + k + 1 */
const cutAfter = (k: number, i: number, mask: number, hash: number) => [
  ...[...op.get(hash), ...op.get(mask), ...op.and, ...op.eqz, ...op.if],
  ...[...op.get(i), ...op.const(k + 1), ...op.add, ...op.return],
  ...op.end,
];

/** hash ← (hash << 1) + table[byte at i + k]; cut there? */
const rollAt = (k: number, i: number, mask: number, hash: number) => [
  ...[...op.get(hash), ...op.const(1), ...op.shl],
  ...[...placeAt(k, i), ...op.load(scanLayout.table), ...op.add, ...op.set(hash)],
  ...cutAfter(k, i, mask, hash),
];

/**
 * The same for two bytes, of which the second waits for the hash before both only: hash ← (hash << 2) + (doubled[first] + table[second]). Locals: `between` is the hash after the
 * first, `place` that of the first in the tables.
 */
const rollTwoAt = (k: number, i: number, mask: number, hash: number, between: number, place: number) => [
  ...[...placeAt(k, i), ...op.set(place)],
  ...[...op.get(hash), ...op.const(1), ...op.shl, ...op.get(place), ...op.load(scanLayout.table), ...op.add, ...op.set(between)],
  ...[...op.get(hash), ...op.const(2), ...op.shl],
  ...[...op.get(place), ...op.load(scanLayout.doubled), ...placeAt(k + 1, i), ...op.load(scanLayout.table), ...op.add],
  ...[...op.add, ...op.set(hash)],
  ...cutAfter(k, i, mask, between),
  ...cutAfter(k + 1, i, mask, hash),
];

const ofEach = (count: number, body: (k: number) => number[]) => Array.from({ length: count }, (_, k) => body(k)).flat();

/** Does `body(k)` for k = 0… of each group of `unrolled` bytes up to `end` (or `group` for the whole group), then for single ones. */
function overBytes(i: number, end: number, body: (k: number) => number[], group = ofEach(unrolled, body)): number[] {
  const step = (bytes: number) => [...op.get(i), ...op.const(bytes), ...op.add, ...op.set(i)];
  const loop = (bytes: number, all: number[]) => [
    ...[...op.block, ...op.loop],
    ...[...op.get(i), ...op.const(bytes), ...op.add, ...op.get(end), ...op.gtU, ...op.brIf(1)],
    ...all,
    ...step(bytes),
    ...[...op.br(0), ...op.end, ...op.end],
  ];
  return [...loop(unrolled, group), ...loop(1, body(0))];
}

const rollTo = (end: number, mask: number) =>
  overBytes(
    0,
    end,
    (k) => rollAt(k, 0, mask, 5),
    ofEach(unrolled / 2, (pair) => rollTwoAt(2 * pair, 0, mask, 5, 6, 7)),
  );

/** cut(0 i, 1 middle, 2 end, 3 strict, 4 loose), locals 5: hash, 6: hash between two bytes, 7: place in the tables */
const cutBody = [...[1, 3, i32], ...rollTo(1, 3), ...rollTo(2, 4), ...[...op.const(0), ...op.end]];

/** counters[byte at i + k] ← + 1, in one of two sets by turns so that equal neighbours do not wait for each other */
const countAt = (k: number) => {
  const counters = scanLayout.counters + (k % 2) * 1024;
  return [
    ...[...op.get(0), ...op.loadByte(k), ...op.const(2), ...op.shl, ...op.set(2)],
    ...[...op.get(2), ...op.get(2), ...op.load(counters), ...op.const(1), ...op.add, ...op.store(counters)],
  ];
};

/** count(0 i, 1 end), local 2: offset of the counter */
const countBody = [...[1, 1, i32], ...overBytes(0, 1, countAt), ...op.end];

/** count ← both counters of byte i + k; sum ← sum + count² */
const squareAt = (k: number) => [
  ...[...op.get(0), ...op.const(2), ...op.shl, ...op.set(2)],
  ...[...op.get(2), ...op.load(scanLayout.counters + 4 * k), ...op.get(2), ...op.load(scanLayout.counters + 1024 + 4 * k), ...op.add],
  ...[...op.set(3), ...op.get(3), ...op.get(3), ...op.mul, ...op.get(4), ...op.add, ...op.set(4)],
];

/** squares(0 i, 1 end), locals 2: offset of the counters, 3: count, 4: sum */
const squaresBody = [...[1, 3, i32], ...overBytes(0, 1, squareAt), ...op.get(4), ...op.end];

let module: WebAssembly.Module | undefined;

/** The loops over a memory of their own with room for `dataBytes`. */
export function byteScan(dataBytes: number): ByteScan {
  module ??= moduleOf([
    { name: 'cut', takes: 5, gives: 1, body: cutBody },
    { name: 'count', takes: 2, gives: 0, body: countBody },
    { name: 'squares', takes: 2, gives: 1, body: squaresBody },
  ]);
  const memory = wasmMemory(scanLayout.data + dataBytes);
  return { memory, ...(functionsOf(module, memory) as unknown as Omit<ByteScan, 'memory'>) };
}
