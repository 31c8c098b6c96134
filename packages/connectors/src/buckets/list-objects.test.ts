import { byUtf8 } from '@lithodex/core';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import type { ListedObject } from './bucket-client';
import { keyBetween } from './key-midpoint';
import { listObjects } from './list-objects';

const key = fc
  .oneof(fc.string({ minLength: 1, unit: 'binary', maxLength: 6 }), fc.stringMatching(/^[ab~ /é-]{1,5}$/))
  .filter((text) => text.isWellFormed());

describe('a key between two', () => {
  it('comes after the one and before the other', () => {
    fc.assert(
      fc.property(fc.oneof(fc.constant(''), key), fc.option(key, { nil: undefined }), (a, b) => {
        fc.pre(b === undefined || byUtf8(a, b) < 0);
        const middle = keyBetween(a, b);
        if (middle === undefined) return;
        expect(byUtf8(a, middle)).toBeLessThan(0);
        if (b !== undefined) expect(byUtf8(middle, b)).toBeLessThan(0);
      }),
    );
  });

  it.each([
    ['', undefined, 'O'],
    ['a', 'c', 'b'],
    ['log-1', 'log-9', 'log-5'],
    ['a', 'a ', undefined],
  ])('%j and %j is %j', (a, b, wanted) => {
    expect(keyBetween(a, b)).toBe(wanted);
  });
});

describe('a listing in stretches', () => {
  it('has every key once, in order, whatever the keys are and whichever page comes first', async () => {
    await fc.assert(
      fc.asyncProperty(fc.uniqueArray(key, { maxLength: 120 }), fc.infiniteStream(fc.nat(3)), async (keys, waits) => {
        const sorted = [...keys].sort(byUtf8);
        const page = async (after: string, most = 4) => {
          for (let n = waits.next().value; n > 0; n--) await Promise.resolve();
          const from = sorted.filter((k) => byUtf8(k, after) > 0);
          const objects = from.slice(0, most).map((k): ListedObject => ({ key: k, size: 0, mtime: 0, etag: '', class: '' }));
          return { objects, more: from.length > most };
        };
        let told = 0;
        const pages = await listObjects({ page }, (objects) => (told += objects.length));
        expect(pages.flatMap((p) => Array.from({ length: p.length }, (_, i) => p.key(i)))).toEqual(sorted);
        expect(told).toBe(keys.length);
      }),
    );
  });
});
