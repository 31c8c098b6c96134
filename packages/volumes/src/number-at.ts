import { damaged } from './errors';

function safe(value: bigint): number {
  if (value > BigInt(Number.MAX_SAFE_INTEGER) || value < 0n) throw damaged('a number that is too large');
  return Number(value);
}

/** An unsigned number of eight bytes. Throws DISK_DAMAGED beyond 2^53, RangeError beyond the end. */
export const u64le = (data: Buffer, at: number): number => safe(data.readBigUInt64LE(at));
export const u64be = (data: Buffer, at: number): number => safe(data.readBigUInt64BE(at));

/** UTF-16 as a byte string of UTF-8; a lone surrogate becomes the replacement character. */
export function utf16Name(data: Buffer): string {
  return Buffer.from(data.toString('utf16le'), 'utf8').toString('latin1');
}

/** A text field that ends with zeros, as text. */
export function textAt(data: Buffer, at: number, length: number): string {
  const field = data.subarray(at, at + length);
  const end = field.indexOf(0);
  return field
    .subarray(0, end < 0 ? length : end)
    .toString('utf8')
    .trim();
}

/** A GUID as Microsoft's tables and NTFS write it, mixed in its order of bytes. */
export function guidAt(data: Buffer, at: number): string {
  const hex = (from: number, to: number, turned: boolean) => {
    const part = Buffer.from(data.subarray(at + from, at + to));
    return (turned ? part.reverse() : part).toString('hex');
  };
  return [hex(0, 4, true), hex(4, 6, true), hex(6, 8, true), hex(8, 10, false), hex(10, 16, false)].join('-');
}
