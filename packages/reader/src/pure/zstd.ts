import { decompress as unpack } from 'fzstd';

/** Zstandard (RFC 8878) without anything of the system; it only unpacks. The same calls as the engine's own. */
const readsOnly = (): never => {
  throw new Error('the reader writes nothing to a store');
};
export const compressBound = readsOnly;
export const compressInto = readsOnly;
export const compress = readsOnly;

/** Decompresses to the start of `to`; the length written, in bytes, or undefined when the data is damaged or there is more than room. */
export function decompressInto(to: Uint8Array, from: Uint8Array): number | undefined {
  try {
    const raw = unpack(from);
    if (raw.length > to.length) return undefined;
    to.set(raw);
    return raw.length;
  } catch {
    return undefined;
  }
}

/** Decompresses into a new buffer of exactly `rawLength` bytes; undefined when the data is damaged or of another length. */
export function decompress(from: Uint8Array, rawLength: number): Buffer | undefined {
  const to = Buffer.allocUnsafe(rawLength);
  return decompressInto(to, from) === rawLength ? to : undefined;
}
