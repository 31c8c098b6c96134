import { isOlder, keyOfOlder } from '@lithodex/core';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import type { BucketClient, ListedVersion } from './bucket-client';
import { listVersions, olderBelow, olderParts, ruledAs } from './older-versions';

const key = fc
  .array(fc.constantFrom('', 'a', 'b~', '..', 'é', '🚢'), { minLength: 1, maxLength: 3 })
  .map((p) => p.join('/'))
  .filter(Boolean);

describe('older versions', () => {
  it('have a folder for each key, below that of its prefix, which leads back to the key', () => {
    fc.assert(
      fc.property(key, (own) => {
        const folder = olderParts(own).join('/');
        expect(isOlder(folder)).toBe(true);
        expect(keyOfOlder(`${folder}/2026-11-20T09:14:00.000Z v1`)).toBe(own);
        const prefix = own.slice(0, own.lastIndexOf('/') + 1);
        expect(folder.startsWith(`${olderBelow(prefix)}/`)).toBe(true);
      }),
    );
  });

  it.each([
    ['~versions', true, undefined],
    ['~versions/gate', true, { path: 'gate', isFolder: true }],
    ['~versions/gate/west~', true, { path: 'gate/west', isFolder: false }],
    ['~versions/gate/west~/2026 v1', false, { path: 'gate/west', isFolder: false }],
  ])('%s is ruled as its object', (path, isFolder, wanted) => {
    expect(ruledAs(path, isFolder)).toEqual(wanted);
  });

  it('are told apart from what counts now, each with the one that took its place, also where pages part them', async () => {
    const v = (id: string, mtime: number, more: Partial<ListedVersion> = {}): ListedVersion => ({
      ...{ key: 'a', id, mtime, size: 1, etag: '', class: 'STANDARD', marker: false, latest: false },
      ...more,
    });
    const pages = [
      [v('3', 30, { latest: true }), v('2', 20)],
      [v('1', 10), v('m', 15, { marker: true })],
      [v('9', 5, { key: 'b', latest: true, marker: true })],
    ];
    const versions: BucketClient['versions'] = (from) => {
      const n = from ? Number(from.id) : 0;
      return Promise.resolve({ versions: pages[n]!, next: n + 1 < pages.length ? { key: 'x', id: String(n + 1) } : undefined });
    };
    const { pages: now, older } = await listVersions({ versions }, () => undefined);
    expect(now.map((p) => p.key(0))).toEqual(['a']);
    expect(older.map(({ older: o }) => [o.key, o.id, o.newer, o.marker])).toEqual([
      ['a', '2', '3', false],
      ['a', 'm', '2', true],
      ['a', '1', 'm', false],
      ['b', '9', '', true],
    ]);
  });
});
