/** A table as a log describes it before rows of it follow. */
export interface LoggedTable {
  readonly database: string;
  readonly name: string;
  readonly columns: readonly Column[];
}

interface Column {
  readonly type: number;
  readonly meta: number;
}

/** Types of columns, by the numbers of the protocol. */
const t = {
  decimal: 0,
  tiny: 1,
  short: 2,
  long: 3,
  float: 4,
  double: 5,
  null: 6,
  timestamp: 7,
  longlong: 8,
  int24: 9,
  date: 10,
  time: 11,
  datetime: 12,
  year: 13,
  newdate: 14,
  varchar: 15,
  bit: 16,
  timestamp2: 17,
  datetime2: 18,
  time2: 19,
  blobCompressed: 140,
  varcharCompressed: 141,
  json: 245,
  newdecimal: 246,
  enum: 247,
  set: 248,
  tinyBlob: 249,
  mediumBlob: 250,
  longBlob: 251,
  blob: 252,
  varString: 253,
  string: 254,
  geometry: 255,
} as const;

const fixed = new Map<number, number>([
  [t.tiny, 1],
  [t.short, 2],
  [t.long, 4],
  [t.float, 4],
  [t.double, 8],
  [t.null, 0],
  [t.timestamp, 4],
  [t.longlong, 8],
  [t.int24, 3],
  [t.date, 3],
  [t.newdate, 3],
  [t.time, 3],
  [t.datetime, 8],
  [t.year, 1],
]);
const twoBytesOfMeta: readonly number[] = [t.varchar, t.varcharCompressed, t.bit, t.newdecimal, t.enum, t.set, t.string, t.varString];
const oneByteOfMeta: readonly number[] = [
  t.float,
  t.double,
  t.timestamp2,
  t.datetime2,
  t.time2,
  t.json,
  t.tinyBlob,
  t.mediumBlob,
  t.longBlob,
  t.blob,
  t.blobCompressed,
  t.geometry,
];

/** An integer of the packed form, and where it ends. */
function packed(data: Buffer, at: number): [value: number, end: number] {
  const first = data[at]!;
  if (first < 251) return [first, at + 1];
  const bytes = first === 252 ? 2 : first === 253 ? 3 : 6;
  return [data.readUIntLE(at + 1, bytes), at + 1 + (first === 254 ? 8 : bytes)];
}

/** Number and description of the table that an event maps; `body`: without header and checksum. */
export function readTableMap(body: Buffer): { readonly id: number; readonly table: LoggedTable } {
  const id = body.readUIntLE(0, 6);
  let at = 8;
  const text = () => {
    const length = body[at]!;
    const value = body.toString('utf8', at + 1, at + 1 + length);
    at += length + 2;
    return value;
  };
  const database = text();
  const name = text();
  const [count, types] = packed(body, at);
  const [, metaAt] = packed(body, types + count);
  let meta = metaAt;
  const columns: Column[] = [];
  for (let i = 0; i < count; i++) {
    const type = body[types + i]!;
    const bytes = twoBytesOfMeta.includes(type) ? 2 : oneByteOfMeta.includes(type) ? 1 : 0;
    // strings and decimals have theirs the other way round
    const turned = type === t.newdecimal || type === t.string || type === t.enum || type === t.set;
    columns.push({ type, meta: bytes === 0 ? 0 : bytes === 1 ? body[meta]! : turned ? body.readUInt16BE(meta) : body.readUInt16LE(meta) });
    meta += bytes;
  }
  return { id, table: { database, name, columns } };
}

/** Bytes of so many decimal digits. */
const digitBytes = [0, 1, 1, 2, 2, 3, 3, 4, 4, 4];
const fraction = (meta: number) => (meta + 1) >> 1;

/** Bytes that a value which is there takes. */
function lengthOf({ type, meta }: Column, data: Buffer, at: number): number {
  const known = fixed.get(type);
  if (known !== undefined) return known;
  switch (type) {
    case t.varchar:
    case t.varcharCompressed:
    case t.varString:
      return meta > 255 ? 2 + data.readUInt16LE(at) : 1 + data[at]!;
    case t.bit:
      return (meta >> 8) + (meta & 0xff ? 1 : 0);
    case t.timestamp2:
      return 4 + fraction(meta);
    case t.datetime2:
      return 5 + fraction(meta);
    case t.time2:
      return 3 + fraction(meta);
    case t.newdecimal: {
      const [precision, scale] = [meta >> 8, meta & 0xff];
      const whole = precision - scale;
      return Math.floor(whole / 9) * 4 + digitBytes[whole % 9]! + Math.floor(scale / 9) * 4 + digitBytes[scale % 9]!;
    }
    case t.enum:
    case t.set:
      return meta & 0xff;
    case t.string: {
      const kind = meta >> 8;
      if (kind === t.enum || kind === t.set) return meta & 0xff;
      // lengths over 255 hide two bits in the type
      const most = (meta & 0xff) | (((kind & 0x30) ^ 0x30) << 4);
      return most > 255 ? 2 + data.readUInt16LE(at) : 1 + data[at]!;
    }
    default:
      return meta + (meta === 0 ? 0 : data.readUIntLE(at, meta));
  }
}

/** What rows of an event are: `updated` ones come as before and after. */
export type RowChange = 'inserted' | 'updated' | 'deleted';

/** What the rows of an event of this type are; undefined for events that carry none, and for compressed ones, which are only told by their tables. */
export function rowChangeOf(
  type: number,
): { readonly change: RowChange; readonly second: boolean; readonly compressed: boolean } | undefined {
  const changes: readonly RowChange[] = ['inserted', 'updated', 'deleted'];
  if (type >= 23 && type <= 25) return { change: changes[type - 23]!, second: false, compressed: false };
  if (type >= 30 && type <= 32) return { change: changes[type - 30]!, second: true, compressed: false };
  if (type >= 166 && type <= 168) return { change: changes[type - 166]!, second: false, compressed: true };
  return undefined;
}

/** Number of the table whose rows an event carries. */
export const tableIdOf = (body: Buffer): number => body.readUIntLE(0, 6);

/** How many rows an event carries. */
export function countRows(body: Buffer, table: LoggedTable, change: RowChange, second: boolean): number {
  let at = 8;
  if (second) at += body.readUInt16LE(at);
  const [width, columnsAt] = packed(body, at);
  const bitmap = (width + 7) >> 3;
  const present = (from: number) => Array.from({ length: width }, (_, i) => i).filter((i) => (body[from + (i >> 3)]! >> (i & 7)) & 1);
  const images = [present(columnsAt)];
  at = columnsAt + bitmap;
  if (change === 'updated') {
    images.push(present(at));
    at += bitmap;
  }
  let rows = 0;
  while (at < body.length) {
    for (const columns of images) {
      const nulls = at;
      at += (columns.length + 7) >> 3;
      for (const [n, i] of columns.entries()) if (!((body[nulls + (n >> 3)]! >> (n & 7)) & 1)) at += lengthOf(table.columns[i]!, body, at);
    }
    rows++;
  }
  return rows;
}
