import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { searchedBytes } from './find-bytes';

const asBuffer = ({ buffer }: Uint8Array) => Buffer.from(buffer);
const { bytes: all, find } = searchedBytes(8192);
const bytes = asBuffer(all);
const at = 1000;

function found(text: string, needle: string): number {
  bytes.fill(0);
  bytes.write(needle, 0, 'latin1');
  bytes.write(text, at, 'latin1');
  // what stands behind the end is not found
  bytes.write(needle, at + text.length, 'latin1');
  const place = find(at, at + text.length, 0, needle.length);
  return place === at + text.length ? -1 : place - at;
}

const few = (least: number, most: number) =>
  fc.array(fc.constantFrom('a', 'b', '\u00ff'), { minLength: least, maxLength: most }).map((all) => all.join(''));

describe('finding bytes', () => {
  it('finds the first place that a search byte by byte finds', () => {
    fc.assert(
      fc.property(few(0, 80), few(1, 20), (text, needle) => {
        expect(found(text, needle)).toBe(text.indexOf(needle));
      }),
      { numRuns: 500 },
    );
  });

  it('finds what stands at the very end, and nothing that reaches beyond it', () => {
    for (let length = 1; length < 40; length++) {
      const needle = 'x'.repeat(Math.min(length, 5));
      expect(found(`${'-'.repeat(length)}${needle}`, needle)).toBe(length);
      expect(found(`${'-'.repeat(length)}${needle.slice(1)}`, needle)).toBe(-1);
    }
  });

  it('searches all it has room for', () => {
    const full = searchedBytes(65_536);
    asBuffer(full.bytes).write('xyz', 65_533);
    asBuffer(full.bytes).write('xyz', 0);
    expect(full.find(3, 65_536, 0, 3)).toBe(65_533);
    expect(full.find(3, 65_535, 0, 3)).toBe(65_535);
  });
});
