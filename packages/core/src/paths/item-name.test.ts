import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { itemNameOf, objectNameOf } from './item-name';
import { safeParts } from './byte-path';

describe('names of objects as names of items', () => {
  it('keeps every name, and makes none that is no name of a file', () => {
    fc.assert(
      fc.property(fc.string({ minLength: 1, unit: 'grapheme' }), (name) => {
        const item = itemNameOf(name);
        expect(safeParts(item)).toEqual([item]);
        expect(objectNameOf(item)).toBe(name.toWellFormed());
      }),
    );
  });

  it.each([
    ['tariffs', 'tariffs'],
    ['a/b', 'a~2fb'],
    ['..', '~2e.'],
    ['100%', '100%'],
    ['~', '~7e'],
  ])('writes %s as %s', (name, item) => {
    expect(itemNameOf(name)).toBe(item);
  });
});
