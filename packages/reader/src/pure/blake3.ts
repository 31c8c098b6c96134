import { blake3 } from '@noble/hashes/blake3.js';

/** Keyed BLAKE3 of `data` without anything of the system: 32 bytes. The key is 32 bytes. */
export const keyedHash = (key: Buffer, data: Uint8Array): Buffer => Buffer.from(blake3(data, { key }));
