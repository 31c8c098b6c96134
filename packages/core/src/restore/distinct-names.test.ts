import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { distinctNames } from './distinct-names';

describe('names in one folder', () => {
  it('stay as they are where they differ, and get the stamp of their point where they do not', () => {
    const at = (name: string, stamp: string) => ({ name, stamp });
    expect(distinctNames([at('a.csv', 'mon'), at('b.csv', 'mon'), at('a.csv', 'tue'), at('a.csv', 'tue')])).toEqual([
      'a.csv',
      'b.csv',
      'a (restored tue).csv',
      'a (restored tue 2).csv',
    ]);
  });

  it('are never alike, also when one is called like the way out', () => {
    const name = fc.constantFrom('a', 'a (restored s)', 'a (restored s 2)', 'b.txt');
    fc.assert(
      fc.property(fc.array(fc.record({ name, stamp: fc.constant('s') }), { maxLength: 12 }), (items) => {
        const names = distinctNames(items);
        expect(new Set(names).size).toBe(items.length);
        items.forEach((item, i) => {
          if (items.findIndex((other) => other.name === item.name) === i && !names.slice(0, i).includes(item.name))
            expect(names[i]).toBe(item.name);
        });
      }),
    );
  });
});
