import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { hierarchyOf, isIn, parsePath, pathText, type Placed } from './hierarchy';

const part = fc.oneof(fc.constantFrom('a', 'b', 'a/b', '%2F', '100 %', ''), fc.string({ maxLength: 4 }));
const place = fc.array(part, { minLength: 1, maxLength: 3 });
const items: fc.Arbitrary<Placed[]> = fc.array(fc.record({ places: fc.array(place, { maxLength: 3 }), open: fc.boolean() }), {
  maxLength: 12,
});

describe('the trees of an estate', () => {
  it('have paths that are read back whatever is in them', () => {
    fc.assert(
      fc.property(place, (parts) => {
        expect(parsePath(pathText(parts))).toEqual(parts);
      }),
    );
  });

  it('count each workload once in every node it lies in or below, and come before what is in them', () => {
    fc.assert(
      fc.property(items, (list) => {
        const nodes = hierarchyOf(list);
        for (const node of nodes) {
          const inside = list.filter((i) => isIn(i.places, parsePath(node.path)));
          expect([node.count, node.open]).toEqual([inside.length, inside.filter((i) => i.open).length]);
        }
        const seen = new Set<string>();
        for (const node of nodes) {
          const parts = parsePath(node.path);
          expect(node.depth).toBe(parts.length - 1);
          if (parts.length > 1) expect(seen.has(pathText(parts.slice(0, -1)))).toBe(true);
          seen.add(node.path);
        }
        for (const { places } of list) for (const parts of places) expect(seen.has(pathText(parts))).toBe(true);
      }),
    );
  });

  it('are sorted as people count', () => {
    const list = ['mole-10', 'mole-2', 'Mole-1'].map((name) => ({ places: [['harbour', name]], open: false }));
    expect(hierarchyOf(list).map((n) => n.name)).toEqual(['harbour', 'Mole-1', 'mole-2', 'mole-10']);
  });
});
