import { Blake3Hasher } from '@napi-rs/blake-hash';

export const nameLength = 32;

/** Keyed BLAKE3 of `data`: 32 bytes. The key is 32 bytes. */
export function keyedHash(key: Buffer, data: Uint8Array): Buffer {
  return Blake3Hasher.newKeyed(key).update(data).digestBuffer();
}
