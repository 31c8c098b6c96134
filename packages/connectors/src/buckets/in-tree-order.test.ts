import { byUtf8 } from '@lithodex/core';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import type { ListedObject } from './bucket-client';
import { between, inTreeOrder } from './in-tree-order';
import { PackedPage } from './packed-page';

const key = fc.array(fc.constantFrom('', 'a', 'b', 'a-b', 'a.b', '..', 'é', '🚢'), { minLength: 1, maxLength: 3 }).map((p) => p.join('/'));
const object = fc.record({
  key: key.filter((k) => k !== ''),
  size: fc.nat(2 ** 50),
  mtime: fc.nat(2 ** 45),
  etag: fc.oneof(fc.stringMatching(/^[0-9a-f]{32}$/), fc.stringMatching(/^[0-9a-f]{32}-\d$/), fc.constant('')),
  class: fc.constantFrom('STANDARD', 'GLACIER'),
});
const listed = fc
  .uniqueArray(object, { selector: (o) => o.key, maxLength: 60 })
  .map((all): ListedObject[] => [...all].sort((a, b) => byUtf8(a.key, b.key)));
const inPages = (all: readonly ListedObject[], size: number) =>
  Array.from({ length: Math.ceil(all.length / size) }, (_, i) => new PackedPage(all.slice(i * size, (i + 1) * size)));

describe('a page in little memory', () => {
  it('holds what was listed', () => {
    fc.assert(
      fc.property(listed, (all) => {
        const page = new PackedPage(all);
        expect(Array.from({ length: page.length }, (_, i) => ({ key: page.key(i), ...page.facts(i) }))).toEqual(all);
      }),
    );
  });
});

describe('objects in the order of a tree', () => {
  it('are all there, each folder in one stretch, names ascending in every folder', () => {
    fc.assert(
      fc.property(listed, fc.integer({ min: 1, max: 7 }), (all, size) => {
        const placed = [...inTreeOrder(inPages(all, size))];
        expect(placed.map(({ place: _, ...facts }) => facts.mtime).sort()).toEqual(all.map((o) => o.mtime).sort());
        const names = new Map<string, string[]>();
        for (const { place } of placed) {
          const parts = place.split(between);
          parts.forEach((name, i) => {
            const folder = parts.slice(0, i).join('/');
            const seen = names.get(folder) ?? [];
            if (seen.at(-1) !== name) seen.push(name);
            names.set(folder, seen);
          });
        }
        for (const seen of names.values()) expect([...new Set(seen)].sort()).toEqual(seen);
      }),
    );
  });
});
