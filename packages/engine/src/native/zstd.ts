import koffi from 'koffi';

/** Zstandard through the system's libzstd. One context per thread is kept and used again. */
const lib = koffi.load('libzstd.so.1', { deep: true });
const boundOf = lib.func('size_t ZSTD_compressBound(size_t)') as (n: number) => number;
const isError = lib.func('uint32_t ZSTD_isError(size_t)') as (n: number) => number;
const newCompressor = lib.func('void *ZSTD_createCCtx()') as () => unknown;
const newDecompressor = lib.func('void *ZSTD_createDCtx()') as () => unknown;
type Transform = (context: unknown, to: Uint8Array, room: number, from: Uint8Array, length: number, level?: number) => number;
const compressWith = lib.func('size_t ZSTD_compressCCtx(void *, void *, size_t, const void *, size_t, int)') as Transform;
const decompressWith = lib.func('size_t ZSTD_decompressDCtx(void *, void *, size_t, const void *, size_t)') as Transform;

let compressor: unknown;
let decompressor: unknown;

/** Largest compressed size of `length` bytes. */
export function compressBound(length: number): number {
  return Number(boundOf(length));
}

/** Compresses `from` into `to` (at least {@link compressBound} bytes) and returns the length written, in bytes. */
export function compressInto(to: Uint8Array, from: Uint8Array, level = 1): number {
  compressor ??= newCompressor();
  const written = Number(compressWith(compressor, to, to.length, from, from.length, level));
  if (isError(written)) throw new Error('zstd could not compress');
  return written;
}

/** Compressed copy of `from`. */
export function compress(from: Uint8Array, level = 3): Buffer {
  const to = Buffer.allocUnsafe(compressBound(from.length));
  return to.subarray(0, compressInto(to, from, level));
}

/** Decompresses to the start of `to`; the length written, in bytes, or undefined when the data is damaged or there is more than room. */
export function decompressInto(to: Uint8Array, from: Uint8Array): number | undefined {
  decompressor ??= newDecompressor();
  const written = Number(decompressWith(decompressor, to, to.length, from, from.length));
  return isError(written) ? undefined : written;
}

/** Decompresses into a new buffer of exactly `rawLength` bytes; undefined when the data is damaged or of another length. */
export function decompress(from: Uint8Array, rawLength: number): Buffer | undefined {
  const to = Buffer.allocUnsafe(rawLength);
  return decompressInto(to, from) === rawLength ? to : undefined;
}
