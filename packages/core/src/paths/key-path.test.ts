import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { safeParts } from './byte-path';
import { byUtf8, keyOfPath, KeyPaths } from './key-path';

const part = fc.constantFrom('', '.', '..', '~', 'a', 'ab', 'a-b', 'å', '🚢', '\ufeff', '%', 'a~', '~2f', '\n');
const key = fc
  .oneof(
    fc.array(part, { minLength: 1, maxLength: 4 }).map((parts) => parts.join('/')),
    fc.string({ minLength: 1, unit: 'binary' }),
  )
  .filter((text) => text !== '' && text.isWellFormed());
const utf8 = (a: string, b: string) => Buffer.compare(Buffer.from(a), Buffer.from(b));

describe('paths of keys', () => {
  it('are those of a tree, each once, and lead back to their key, whatever the keys are', () => {
    fc.assert(
      fc.property(fc.uniqueArray(key, { maxLength: 40 }), (keys) => {
        const paths = new KeyPaths();
        const files = new Set<string>();
        const folders = new Set<string>();
        for (const own of [...keys].sort(utf8)) {
          const names = paths.partsOf(own);
          const path = names.join('/');
          expect(safeParts(path)).toEqual(names);
          expect(keyOfPath(path)).toBe(own);
          files.add(path);
          for (let i = 1; i < names.length; i++) folders.add(names.slice(0, i).join('/'));
        }
        expect(files.size).toBe(keys.length);
        expect([...files].filter((f) => folders.has(f))).toEqual([]);
      }),
    );
  });

  it.each([
    [
      ['a', 'a/b'],
      ['a', 'a~/b'],
    ],
    [
      ['a', 'a-1', 'a/b', 'a0'],
      ['a', 'a-1', 'a~/b', 'a0'],
    ],
    [
      ['d/', 'd//x'],
      ['d/~', 'd/~~/x'],
    ],
    [['/x'], ['~/x']],
    [['../keys'], ['~2e./keys']],
    [
      ['a/b', 'ab'],
      ['a/b', 'ab'],
    ],
  ])('of %j are %j', (keys, wanted) => {
    const paths = new KeyPaths();
    expect(keys.map((k) => paths.partsOf(k).join('/'))).toEqual(wanted);
  });

  it('come in the order of the bytes of their keys', () => {
    const text = fc.string({ unit: 'binary' }).filter((s) => s.isWellFormed());
    fc.assert(
      fc.property(text, text, (a, b) => {
        expect(Math.sign(byUtf8(a, b))).toBe(Math.sign(utf8(a, b)));
      }),
    );
  });
});
