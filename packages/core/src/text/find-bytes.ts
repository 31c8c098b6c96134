import { functionsOf, i32, moduleOf, op, wasmMemory } from '../wasm/module';

/** So many bytes behind the end of what is searched are looked at. */
const lookedAtBehind = 16;

/** Bytes that can be searched fast. */
export interface SearchedBytes {
  readonly bytes: Uint8Array;
  /** Where from address `from` to `end` the bytes at `needle`, `length` of them (at least one), stand first; `end` where they don't. */
  readonly find: (from: number, end: number, needle: number, length: number) => number;
}

/** Arguments: 0 i, 1 end, 2 needle, 3 length; locals: 4 last place, 5 length - 1, 6 bits, 7 place, 8 k; 9 and 10 the first and last byte of the needle, sixteen times. */
const [i, end, needle, length, last, rest, bits, place, k, first, final] = [0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10] as const;

const wideStep = 64;

const stepBy = (local: number, by: number) => [...op.get(local), ...op.const(by), ...op.add, ...op.set(local)];

/** For each of sixteen places from i + `offset` on: whether the first and the last byte of the needle stand there at their distance. */
const bothAt = (offset: number) => [
  ...[...op.get(i), ...op.wide.loadFrom(offset), ...op.get(first), ...op.wide.equal],
  ...[...op.get(i), ...op.get(rest), ...op.add, ...op.wide.loadFrom(offset), ...op.get(final), ...op.wide.equal],
  ...op.wide.and,
];

/** Sixty-four places at a time, sixteen where one of these may be it: only where the first and the last byte of the needle stand at their distance are those between compared. */
const findBody = [
  ...[2, 5, i32, 2, op.wide.type],
  ...[...op.get(length), ...op.const(1), ...op.sub, ...op.set(rest)],
  ...[...op.get(needle), ...op.loadByte(0), ...op.wide.splat, ...op.set(first)],
  ...[...op.get(needle), ...op.get(rest), ...op.add, ...op.loadByte(0), ...op.wide.splat, ...op.set(final)],
  // nothing fits
  ...[...op.get(end), ...op.get(i), ...op.sub, ...op.get(length), ...op.ltU, ...op.if, ...op.get(end), ...op.return, ...op.end],
  ...[...op.get(end), ...op.get(length), ...op.sub, ...op.set(last)],
  ...[...op.block, ...op.loop],
  ...[...op.get(i), ...op.get(last), ...op.gtU, ...op.brIf(1)],
  ...[...op.get(last), ...op.get(i), ...op.sub, ...op.const(wideStep), ...op.geU, ...op.if],
  ...[...bothAt(0), ...bothAt(16), ...op.wide.or, ...bothAt(32), ...op.wide.or, ...bothAt(48), ...op.wide.or],
  ...[...op.wide.any, ...op.eqz, ...op.if, ...stepBy(i, wideStep), ...op.br(2), ...op.end, ...op.end],
  ...[...bothAt(0), ...op.wide.bits, ...op.tee(bits), ...op.eqz],
  ...[...op.if, ...stepBy(i, 16), ...op.br(1), ...op.end],
  ...[...op.get(i), ...op.get(bits), ...op.countTrailingZeros, ...op.add, ...op.tee(place), ...op.get(last), ...op.gtU, ...op.brIf(1)],
  ...[...op.const(1), ...op.set(k)],
  ...[...op.block, ...op.loop],
  ...[...op.get(k), ...op.get(rest), ...op.geU, ...op.if, ...op.get(place), ...op.return, ...op.end],
  ...[...op.get(place), ...op.get(k), ...op.add, ...op.loadByte(0)],
  ...[...op.get(needle), ...op.get(k), ...op.add, ...op.loadByte(0), ...op.sub, ...op.brIf(1)],
  ...[...stepBy(k, 1), ...op.br(0)],
  ...[...op.end, ...op.end],
  ...[...op.get(place), ...op.const(1), ...op.add, ...op.set(i), ...op.br(0)],
  ...[...op.end, ...op.end],
  ...[...op.get(end), ...op.end],
];

let module: WebAssembly.Module | undefined;

/** Room for so many bytes that can be searched, all zero. */
export function searchedBytes(length: number): SearchedBytes {
  const memory = wasmMemory(length + lookedAtBehind);
  module ??= moduleOf([{ name: 'find', takes: 4, gives: 1, body: findBody }]);
  const find = functionsOf(module, memory)['find'] as SearchedBytes['find'];
  return { bytes: new Uint8Array(memory.buffer, 0, length), find };
}
