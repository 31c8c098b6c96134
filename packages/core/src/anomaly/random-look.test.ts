import { randomBytes } from 'node:crypto';
import { gzipSync } from 'node:zlib';
import { describe, expect, it } from 'vitest';
import { looksRandom } from './random-look';

describe('random content', () => {
  it('is told from text and from compressed data', () => {
    const text = Buffer.from('The pilot boards at the outer buoy. '.repeat(4000));
    const mixed = Buffer.from(
      Array.from({ length: 200_000 }, (_, i) => Math.round(Math.abs(Math.sin(i * i)) * 1e6).toString(36)).join(' '),
    );
    expect(looksRandom(text)).toBe(false);
    expect(looksRandom(gzipSync(mixed).subarray(0, 65_536))).toBe(false);
    for (let i = 0; i < 20; i++) expect(looksRandom(randomBytes(65_536))).toBe(true);
    expect(looksRandom(randomBytes(500))).toBe(false);
  });
});
