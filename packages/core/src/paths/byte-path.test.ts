import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { escapePath, fromBytes, joinPath, parentPath, baseName, safeParts, toBytes, unescapePath } from './byte-path';

const anyBytes = fc.uint8Array({ maxLength: 60 });

describe('escaped paths', () => {
  it('come back as the same bytes, whatever the bytes are', () => {
    fc.assert(
      fc.property(anyBytes, (bytes) => {
        expect(toBytes(unescapePath(escapePath(fromBytes(bytes))))).toEqual(bytes);
      }),
    );
  });

  it('differ when the bytes differ', () => {
    fc.assert(
      fc.property(anyBytes, anyBytes, (a, b) => {
        expect(escapePath(fromBytes(a)) === escapePath(fromBytes(b))).toBe(fromBytes(a) === fromBytes(b));
      }),
    );
  });

  it('hold nothing that could break a line, a terminal or the direction of text', () => {
    fc.assert(
      fc.property(anyBytes, (bytes) => {
        expect(escapePath(fromBytes(bytes))).not.toMatch(/[\u0000-\u001f\u007f-\u009f\u202a-\u202e\u2066-\u2069]/);
      }),
    );
  });

  it.each([
    ['plain name.txt', 'plain name.txt'],
    ['100%', '100%25'],
    ['a\nb', 'a%0Ab'],
    ['\xc3\xbc', 'ü'],
    ['\xff\xfe', '%FF%FE'],
    ['\xe2\x80\xae', '%E2%80%AE'],
  ])('%j is shown as %j', (bytes, text) => {
    expect(escapePath(bytes)).toBe(text);
  });

  it('take a lone percent sign as itself when read', () => {
    expect(unescapePath('100% sure')).toBe('100% sure');
  });
});

describe('paths', () => {
  it('join, and come apart again', () => {
    const part = fc.stringMatching(/^[a-z]{1,8}$/);
    fc.assert(
      fc.property(fc.array(part, { maxLength: 4 }), part, (folders, name) => {
        const path = joinPath(folders.join('/'), name);
        expect([parentPath(path), baseName(path)]).toEqual([folders.join('/'), name]);
      }),
    );
  });

  it.each(['..', 'a/../b', '/a', 'a//b', 'a/', './a', 'a\0b'])('%j is no path below a folder', (path) => {
    expect(safeParts(path)).toBeUndefined();
  });
});
