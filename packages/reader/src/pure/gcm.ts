import { createDecipheriv } from 'node:crypto';

/** AES-256-GCM (NIST SP 800-38D) by Node alone; it only opens. The same calls as the engine's own. */
export const tagBytes = 16;

export function sealInto(): never {
  throw new Error('the reader writes nothing to a store');
}

/** Writes the plain text of `sealed` to the start of `to` and returns its length, in bytes; undefined when the tag does not fit. */
export function openInto(to: Uint8Array, key: Uint8Array, nonce: Uint8Array, aad: Uint8Array, sealed: Uint8Array): number | undefined {
  const length = sealed.length - tagBytes;
  if (length < 0) return undefined;
  if (to.length < length) throw new RangeError('there is no room for what is opened');
  const cipher = createDecipheriv('aes-256-gcm', key, nonce).setAAD(aad).setAuthTag(sealed.subarray(length));
  try {
    to.set(cipher.update(sealed.subarray(0, length)));
    cipher.final();
    return length;
  } catch {
    return undefined;
  }
}
