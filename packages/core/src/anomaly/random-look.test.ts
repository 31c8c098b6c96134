import { randomBytes } from 'node:crypto';
import { gzipSync } from 'node:zlib';
import { describe, expect, it } from 'vitest';
import { hasForm } from './content-form';
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
    for (let i = 0; i < 20; i++) expect(looksRandom(randomBytes(500))).toBe(true);
    expect(looksRandom(Buffer.from(randomBytes(400).toString('base64')))).toBe(false);
    expect(looksRandom(text.subarray(0, 256))).toBe(false);
    expect(looksRandom(randomBytes(200))).toBe(false);
  });

  it('says nothing of what begins as a known format does', () => {
    expect(hasForm(gzipSync('x'))).toBe(true);
    expect(hasForm(Buffer.from([0xff, 0xd8, 0xff, 0xe0, 1]))).toBe(true);
    expect(hasForm(Buffer.concat([Buffer.alloc(257), Buffer.from('ustar')]))).toBe(true);
    const packets = Buffer.alloc(512);
    for (const at of [0, 188, 376]) packets[at] = 0x47;
    expect(hasForm(packets)).toBe(true);
    expect(hasForm(packets.subarray(0, 300))).toBe(false);
    expect(hasForm(Buffer.from('Salted__12345678'))).toBe(false);
    expect(hasForm(Buffer.alloc(0))).toBe(false);
  });
});
