import { randomBytes } from 'node:crypto';
import { gzipSync } from 'node:zlib';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { judgeChange, looksRandom, usualShare, type ChangeCounts } from './change-limit';

const none: ChangeCounts = { before: 1000, added: 0, changed: 0, removed: 0, random: 0, turnedRandom: 0, renamed: 0 };
const counts: fc.Arbitrary<ChangeCounts> = fc.record({
  before: fc.nat(5000),
  added: fc.nat(5000),
  changed: fc.nat(3000),
  removed: fc.nat(3000),
  random: fc.nat(5000),
  turnedRandom: fc.nat(3000),
  renamed: fc.nat(3000),
});

describe('unusual change', () => {
  it('is never found in a first point', () => {
    expect(judgeChange({ ...none, before: 0, added: 50_000, random: 50_000 }, 0.2, [])).toMatchObject({ suspect: false, score: 0 });
  });

  it('scores between 0 and 100, and more change never scores less', () => {
    fc.assert(
      fc.property(counts, fc.double({ min: 0.01, max: 1, noNaN: true }), fc.nat(500), (c, limit, more) => {
        const a = judgeChange({ ...c, turnedRandom: 0, renamed: 0 }, limit, []);
        const b = judgeChange({ ...c, turnedRandom: 0, renamed: 0, changed: c.changed + more }, limit, []);
        expect(a.score).toBeGreaterThanOrEqual(0);
        expect(b.score).toBeLessThanOrEqual(100);
        expect(b.score).toBeGreaterThanOrEqual(a.score);
      }),
    );
  });

  it('is suspect past the limit, with reasons in words', () => {
    const u = judgeChange({ ...none, removed: 900, added: 900, random: 880, renamed: 890 }, 0.2, [0.004, 0.003, 0.005]);
    expect(u.suspect).toBe(true);
    expect(u.score).toBeGreaterThan(95);
    expect(u.reasons.join(' ')).toMatch(/90 % of the files changed or gone, usually 0\.4 %.*looks random.*890 files replaced by a twin/);
  });

  it('leaves small workloads and usual nights alone', () => {
    expect(judgeChange({ ...none, before: 10, changed: 10 }, 0.2, []).suspect).toBe(false);
    expect(judgeChange({ ...none, changed: 150 }, 0.2, []).suspect).toBe(false);
  });

  it('knows the usual share from three points on', () => {
    expect(usualShare([0.1, 0.2])).toBeUndefined();
    expect(usualShare([0.3, 0.1, 0.2])).toBe(0.2);
  });
});

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
