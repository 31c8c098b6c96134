import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  countOf,
  cutMiddle,
  formatBytes,
  formatCount,
  formatDuration,
  formatFirst,
  formatList,
  formatMoment,
  formatShare,
  localTime,
} from './format';

describe('numbers in words', () => {
  it.each([
    [0, '0 B'],
    [999, '999 B'],
    [1000, '1.00 kB'],
    [1023, '1.02 kB'],
    [412_345_678, '412 MB'],
    [999_999, '1.00 MB'],
    [-40_000, '−40.0 kB'],
  ])('%d bytes are %s', (n, text) => {
    expect(formatBytes(n)).toBe(text);
  });

  it.each([
    [420, '420 ms'],
    [4200, '4.2 s'],
    [59_600, '1 min'],
    [200_000, '3 min 20 s'],
    [7_500_000, '2 h 5 min'],
    [260_000_000, '3 days'],
  ])('%d ms are %s', (ms, text) => {
    expect(formatDuration(ms)).toBe(text);
  });

  it('always have a unit and never more than four digits before it', () => {
    fc.assert(
      fc.property(fc.integer({ min: 0, max: 2 ** 50 }), (n) => {
        expect(formatBytes(n)).toMatch(/^\d{1,3}(\.\d{1,2})? (B|kB|MB|GB|TB|PB)$/);
      }),
    );
  });

  it('group, count and share', () => {
    expect(formatCount(1_234_567)).toBe('1\u202f234\u202f567');
    expect(countOf(1, 'file')).toBe('1 file');
    expect(countOf(0, 'copy', 'copies')).toBe('0 copies');
    expect(formatShare(0.004)).toBe('0.4 %');
    expect(formatShare(0.614)).toBe('61 %');
  });

  it('name moments in their zone, the year only when it is another', () => {
    const t = Date.UTC(2026, 10, 22, 21, 0);
    expect(formatMoment(t, 'Europe/Oslo')).toBe('Sun 22 Nov 22:00');
    expect(formatMoment(t, 'Europe/Oslo', Date.UTC(2027, 1, 1))).toBe('Sun 22 Nov 2026 22:00');
  });

  it('are listed as one speaks', () => {
    expect([[], ['a'], ['a', 'b'], ['a', 'b', 'c']].map((words) => formatList(words))).toEqual(['', 'a', 'a and b', 'a, b and c']);
  });

  it('name the first, and say how many there are besides', () => {
    const told = [['a'], ['a', 'b'], ['a', 'b', 'c'], Array<string>(1200).fill('a')].map((words) => formatFirst(words, 2));
    expect(told).toEqual(['a', 'a, b', 'a, b and 1 more', 'a, a and 1\u202f198 more']);
    expect(formatFirst(['a', 'b'], 2, 7, '; ')).toBe('a; b and 5 more');
  });

  it('cut names in the middle and keep the ending', () => {
    fc.assert(
      fc.property(fc.string({ minLength: 1, maxLength: 80 }), fc.integer({ min: 8, max: 40 }), (text, most) => {
        const cut = cutMiddle(text, most);
        expect(cut.length).toBeLessThanOrEqual(Math.max(most, text.length <= most ? text.length : most));
        if (text.length > most) expect(text.endsWith(cut.slice(-3))).toBe(true);
      }),
    );
  });
});

describe('local time', () => {
  it('is that of the zone', () => {
    expect(localTime(Date.UTC(2026, 6, 1, 22, 5), 'Europe/Oslo')).toBe('2026-07-02T00:05:00.000');
  });
});
