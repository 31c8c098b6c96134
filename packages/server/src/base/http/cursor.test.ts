import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { numberAt } from './cursor';

describe('the number a list goes on from', () => {
  it('is what a page gave out, or the first', () => {
    fc.assert(
      fc.property(fc.maxSafeNat(), (n) => {
        expect(numberAt(String(n), 7)).toBe(n);
      }),
    );
    expect([numberAt(undefined, 7), numberAt('', 7)]).toEqual([7, 7]);
  });

  it.each(['-1', '1e308', '0x10', ' 1', '1.5', '99999999999999999999', 'NaN', '\u0000'])('is never %j', (cursor) => {
    expect(() => numberAt(cursor, 0)).toThrow(expect.objectContaining({ code: 'INVALID' }) as Error);
  });
});
