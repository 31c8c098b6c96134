import { functionsOf, i32, moduleOf, op, wasmMemory } from '../wasm/module';

/** What is copied at once: so many bytes behind the end of what is read are looked at, and behind the end of a copy are written. */
export const copiedAtOnce = 16;
const backslash = 0x5c;
/** Bytes below this one are looked at one by one. */
const controls = 0x1b;
/** What each byte is replaced by stands at the beginning of the memory, data behind it. */
export const escapedCopyData = 256;

/** Copies within a memory of its own. */
export interface EscapedCopy {
  readonly memory: WebAssembly.Memory;
  /** Copies the bytes of addresses `from` to `end` to `to`, those that are to be escaped as a backslash and their letter. Gives the address behind the copy. */
  copy(from: number, end: number, to: number): number;
}

/** Arguments: 0 i, 1 end, 2 to; locals: 3 bytes copied, 4 letter of a byte, 5 sixteen bytes. */
const [i, end, to, count, letter, bytes] = [0, 1, 2, 3, 4, 5] as const;

/** Where among the sixteen bytes the first one stands that may be one to escape; 32 where none does. */
const firstSpecial = [
  ...[...op.get(bytes), ...op.wide.of(controls), ...op.wide.lessU],
  ...["'", '"', '\\'].flatMap((c) => [...op.get(bytes), ...op.wide.of(c.charCodeAt(0)), ...op.wide.equal, ...op.wide.or]),
  ...[...op.wide.bits, ...op.countTrailingZeros],
];

/** count ← the lesser of what is on the stack and another */
const lesser = (other: readonly number[]) => [
  ...[...op.set(count), ...op.get(count), ...other],
  ...[...op.get(count), ...other, ...op.ltU, ...op.select, ...op.set(count)],
];

const stepBy = (local: number, by: readonly number[]) => [...op.get(local), ...by, ...op.add, ...op.set(local)];

/** Sixteen bytes at a time, up to the first that may be one to escape, which is looked at by itself. */
const copyBody = [
  ...[2, 2, i32, 1, op.wide.type],
  ...[...op.block, ...op.loop],
  ...[...op.get(i), ...op.get(end), ...op.geU, ...op.brIf(1)],
  ...[...op.get(to), ...op.get(i), ...op.wide.load, ...op.tee(bytes), ...op.wide.store],
  ...[...firstSpecial, ...lesser(op.const(copiedAtOnce))],
  ...[...op.get(count), ...lesser([...op.get(end), ...op.get(i), ...op.sub])],
  ...[...stepBy(i, op.get(count)), ...stepBy(to, op.get(count))],
  ...[...op.get(count), ...op.const(copiedAtOnce), ...op.geU, ...op.brIf(0)],
  ...[...op.get(i), ...op.get(end), ...op.geU, ...op.brIf(1)],
  ...[...op.get(i), ...op.loadByte(0), ...op.loadByte(0), ...op.tee(letter), ...op.if],
  ...[...op.get(to), ...op.const(backslash), ...op.storeByte(0)],
  ...[...op.get(to), ...op.get(letter), ...op.storeByte(1)],
  ...[...stepBy(to, op.const(2)), ...stepBy(i, op.const(1)), ...op.br(1), ...op.end],
  ...[...op.get(to), ...op.get(i), ...op.loadByte(0), ...op.storeByte(0)],
  ...[...stepBy(to, op.const(1)), ...stepBy(i, op.const(1)), ...op.br(0)],
  ...[...op.end, ...op.end],
  ...[...op.get(to), ...op.end],
];

let module: WebAssembly.Module | undefined;

/** What follows the backslash in the place of a byte, in texts of SQL in which backslashes escape. */
const letters: readonly (readonly [byte: string, letter: string])[] = [
  ['\0', '0'],
  ['\n', 'n'],
  ['\r', 'r'],
  ['\\', '\\'],
  ["'", "'"],
  ['"', '"'],
  ['\x1a', 'Z'],
];

/** A copy that escapes, with a memory of at least so many bytes of data; it may be made larger. */
export function escapedCopy(dataBytes: number): EscapedCopy {
  const memory = wasmMemory(escapedCopyData + dataBytes + copiedAtOnce);
  module ??= moduleOf([{ name: 'copy', takes: 3, gives: 1, body: copyBody }]);
  const table = new Uint8Array(memory.buffer);
  for (const [byte, letter] of letters) table[byte.charCodeAt(0)] = letter.charCodeAt(0);
  return { memory, ...(functionsOf(module, memory) as unknown as Pick<EscapedCopy, 'copy'>) };
}
