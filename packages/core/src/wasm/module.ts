/** Instructions of WebAssembly, as bytes. */
export const i32 = 0x7f;
export const op = {
  block: [0x02, 0x40],
  loop: [0x03, 0x40],
  if: [0x04, 0x40],
  end: [0x0b],
  br: (depth: number) => [0x0c, depth],
  brIf: (depth: number) => [0x0d, depth],
  return: [0x0f],
  select: [0x1b],
  get: (local: number) => [0x20, local],
  set: (local: number) => [0x21, local],
  tee: (local: number) => [0x22, local],
  load: (offset: number) => [0x28, 2, ...unsigned(offset)],
  loadByte: (offset: number) => [0x2d, 0, ...unsigned(offset)],
  store: (offset: number) => [0x36, 2, ...unsigned(offset)],
  storeByte: (offset: number) => [0x3a, 0, ...unsigned(offset)],
  const: (value: number) => [0x41, ...signed(value)],
  eqz: [0x45],
  ltU: [0x49],
  gtU: [0x4b],
  geU: [0x4f],
  countTrailingZeros: [0x68],
  add: [0x6a],
  sub: [0x6b],
  mul: [0x6c],
  and: [0x71],
  shl: [0x74],
  /** Sixteen bytes at once. */
  wide: {
    type: 0x7b,
    load: [0xfd, 0x00, 0, 0],
    loadFrom: (offset: number) => [0xfd, 0x00, 0, ...unsigned(offset)],
    store: [0xfd, 0x0b, 0, 0],
    /** Sixteen times the same byte. */
    of: (byte: number) => [0xfd, 0x0c, ...Array<number>(16).fill(byte)],
    /** Sixteen times the lowest byte of a number. */
    splat: [0xfd, 0x0f],
    equal: [0xfd, 0x23],
    lessU: [0xfd, 0x26],
    and: [0xfd, 0x4e],
    or: [0xfd, 0x50],
    /** Whether any bit is set. */
    any: [0xfd, 0x53],
    /** A bit for each byte: whether its highest one is set. */
    bits: [0xfd, 0x64],
  },
} as const;

/** A number as the format packs it. */
export function unsigned(value: number): number[] {
  return value < 128 ? [value] : [(value & 127) | 128, ...unsigned(value >>> 7)];
}

/** The same of one that may be negative. */
function signed(value: number): number[] {
  const rest = value >> 6;
  return rest === 0 || rest === -1 ? [value & 127] : [(value & 127) | 128, ...signed(value >> 7)];
}

const page = 65_536;
const sized = (bytes: readonly number[]) => [...unsigned(bytes.length), ...bytes];
const section = (id: number, bytes: readonly number[]) => [id, ...sized(bytes)];
const text = (name: string) => sized(Array.from(name, (c) => c.charCodeAt(0)));

/** A function that takes numbers and gives one, or none. */
export interface WasmFunction {
  readonly name: string;
  readonly takes: number;
  readonly gives: 0 | 1;
  /** Its locals, then its instructions. */
  readonly body: readonly number[];
}

/** A module of functions over a memory that it is given. */
export function moduleOf(functions: readonly WasmFunction[]): WebAssembly.Module {
  const types = functions.flatMap(({ takes, gives }) => [
    0x60,
    takes,
    ...Array<number>(takes).fill(i32),
    gives,
    ...Array<number>(gives).fill(i32),
  ]);
  return new WebAssembly.Module(
    new Uint8Array([
      ...[0x00, 0x61, 0x73, 0x6d, 1, 0, 0, 0],
      ...section(1, [functions.length, ...types]),
      ...section(2, [1, ...text('env'), ...text('memory'), 2, 0, 1]),
      ...section(3, [functions.length, ...functions.map((_, i) => i)]),
      ...section(7, [functions.length, ...functions.flatMap(({ name }, i) => [...text(name), 0, i])]),
      ...section(10, [functions.length, ...functions.flatMap(({ body }) => sized(body))]),
    ]),
  );
}

/** A memory of at least so many bytes. */
export const wasmMemory = (bytes: number): WebAssembly.Memory => new WebAssembly.Memory({ initial: Math.ceil(bytes / page) });

/** The functions of a module over a memory. */
export function functionsOf(module: WebAssembly.Module, memory: WebAssembly.Memory): WebAssembly.Exports {
  return new WebAssembly.Instance(module, { env: { memory } }).exports;
}
