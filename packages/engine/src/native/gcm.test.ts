import { describe, expect, it } from 'vitest';
import { createCipheriv, createDecipheriv } from 'node:crypto';
import fc from 'fast-check';
import { openInto, sealInto, tagBytes } from './gcm';

const bytes = (length: number) => fc.uint8Array({ minLength: length, maxLength: length });
const anyCase = fc.record({
  key: bytes(32),
  nonce: bytes(12),
  aad: fc.uint8Array({ maxLength: 40 }),
  plain: fc.uint8Array({ maxLength: 3000 }),
});

describe('AES-256-GCM', () => {
  it('writes what another implementation reads, and reads what it writes', () => {
    fc.assert(
      fc.property(anyCase, ({ key, nonce, aad, plain }) => {
        const sealed = Buffer.alloc(plain.length + tagBytes);
        expect(sealInto(sealed, key, nonce, aad, plain)).toBe(sealed.length);
        const decipher = createDecipheriv('aes-256-gcm', key, nonce).setAAD(aad).setAuthTag(sealed.subarray(plain.length));
        expect(Buffer.concat([decipher.update(sealed.subarray(0, plain.length)), decipher.final()]).equals(plain)).toBe(true);

        const cipher = createCipheriv('aes-256-gcm', key, nonce).setAAD(aad);
        const theirs = Buffer.concat([cipher.update(plain), cipher.final(), cipher.getAuthTag()]);
        const back = Buffer.alloc(plain.length);
        expect(openInto(back, key, nonce, aad, theirs)).toBe(plain.length);
        expect(back.equals(plain)).toBe(true);
      }),
    );
  });

  it('refuses whatever has changed in a single bit', () => {
    fc.assert(
      fc.property(anyCase, fc.nat(), ({ key, nonce, aad, plain }, place) => {
        const sealed = Buffer.alloc(plain.length + tagBytes);
        sealInto(sealed, key, nonce, aad, plain);
        const bit = place % (sealed.length * 8);
        sealed[bit >> 3]! ^= 1 << (bit & 7);
        expect(openInto(Buffer.alloc(plain.length), key, nonce, aad, sealed)).toBeUndefined();
      }),
    );
  });

  it('refuses keys, nonces and room of the wrong length, and what is shorter than a tag', () => {
    const [key, nonce] = [Buffer.alloc(32), Buffer.alloc(12)];
    expect(() => sealInto(Buffer.alloc(20), key, nonce, Buffer.alloc(0), Buffer.alloc(5))).toThrow(RangeError);
    expect(() => sealInto(Buffer.alloc(40), key.subarray(1), nonce, Buffer.alloc(0), Buffer.alloc(5))).toThrow(RangeError);
    expect(() => openInto(Buffer.alloc(4), key, nonce, Buffer.alloc(0), Buffer.alloc(21))).toThrow(RangeError);
    expect(openInto(Buffer.alloc(4), key, nonce, Buffer.alloc(0), Buffer.alloc(15))).toBeUndefined();
  });
});
