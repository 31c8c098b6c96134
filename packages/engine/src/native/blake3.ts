import { Blake3Hasher } from '@napi-rs/blake-hash';

const hashers = new WeakMap<Buffer, Blake3Hasher>();

/** Keyed BLAKE3 of `data`: 32 bytes. The key is 32 bytes. The hasher of a key is used again, which halves the cost of small chunks. */
export function keyedHash(key: Buffer, data: Uint8Array): Buffer {
  let hasher = hashers.get(key);
  if (!hasher) {
    hasher = Blake3Hasher.newKeyed(key);
    hashers.set(key, hasher);
  }
  hasher.reset();
  // as text, since a buffer made on the other side costs more than hashing a small file
  return Buffer.from(hasher.update(data).digest('hex'), 'hex');
}
