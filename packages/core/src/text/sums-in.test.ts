import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { sumsIn } from './sums-in';

const hex = fc.uint8Array({ minLength: 32, maxLength: 32 }).map((bytes) => Buffer.from(bytes).toString('hex'));

describe('sums in a text', () => {
  it('are found once each and in order, whatever stands between them', () => {
    const between = fc.constantFrom(' ', '\n', ',', ';"', '  charts/a.pdf\n', '\t* ', '|');
    fc.assert(
      fc.property(fc.array(fc.tuple(hex, between, fc.boolean()), { maxLength: 20 }), (all) => {
        const text = all.map(([sum, after, large]) => (large ? sum.toUpperCase() : sum) + after).join('');
        expect(sumsIn(text)).toEqual([...new Set(all.map(([sum]) => sum))]);
      }),
    );
  });

  it('are those of SHA-256 only: shorter and longer ones are not cut out', () => {
    expect(sumsIn(`${'a'.repeat(40)} ${'b'.repeat(128)} ${'c'.repeat(63)} ${'d'.repeat(64)}`)).toEqual(['d'.repeat(64)]);
  });
});
