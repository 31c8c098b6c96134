import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { ChangeReader, type ItemLook, type SeenChange } from './change-reader';

const now = Date.UTC(2026, 10, 23, 4);
const look = (more: Partial<ItemLook> = {}): ItemLook => ({ size: 10_000, random: false, content: 'a', mtime: now - 1000, ...more });
const read = (changes: readonly SeenChange[], before = 1000) => {
  const reader = new ChangeReader();
  for (const c of changes) reader.add(c);
  return reader.read(before, now);
};
const went = (name: string, more: Partial<ItemLook> = {}, folder = 'soundings'): SeenChange => ({
  folder,
  name,
  change: 'removed',
  before: look({ content: name, ...more }),
});
const came = (name: string, more: Partial<ItemLook> = {}, folder = 'soundings'): SeenChange => ({
  folder,
  name,
  change: 'added',
  now: look({ content: `new ${name}`, ...more }),
});

describe('the differences between two points', () => {
  it('pairs what went with a twin of its name, its stem, or, where all grew alike, its size', () => {
    const { counts, damaged } = read([
      went('a.csv'),
      came('a.csv.krx', { random: true, size: 10_400 }),
      went('b.csv'),
      came('b.krx', { random: true, size: 10_400 }),
    ]);
    expect(counts).toMatchObject({ removed: 2, added: 2, twins: 2, renamed: 1, moved: 0, ending: '.krx' });
    expect(damaged).toMatchObject([
      { name: 'a.csv', how: 'twin', twin: 'a.csv.krx', since: now - 1000 },
      { name: 'b.csv', how: 'twin', twin: 'b.krx' },
    ]);
    const names = ['one', 'two', 'three', 'four'];
    const byChance = (grown: (i: number) => number) =>
      read(
        names.flatMap((n, i) => [went(n, { size: 1000 * (i + 1) }), came(`x${9 - i}q`, { random: true, size: 1000 * (i + 1) + grown(i) })]),
      ).counts.twins;
    expect(byChance(() => 512)).toBe(4);
    expect(byChance((i) => 40 + 90 * i)).toBe(0);
  });

  it('takes what was compressed, moved or rotated for no damage', () => {
    const { counts, damaged } = read([
      went('app.log'),
      came('app.log.gz', { size: 3000 }),
      went('big.txt'),
      came('big.txt.br', { size: 4000, random: true }),
      went('plan.odt', { content: 'same' }),
      came('plan.odt', { content: 'same' }, 'archive'),
      went('photo.jpg'),
      came('photo.webp', { size: 7000 }),
    ]);
    expect(counts).toMatchObject({ twins: 0, moved: 1, renamed: 2, turnedRandom: 0 });
    expect(damaged.map((d) => [d.name, d.how])).toEqual([['photo.jpg', 'gone']]);
  });

  it('finds what was damaged in place, and what looked random before by what the rest grew', () => {
    const inPlace = (name: string, was: boolean, grown: number): SeenChange => ({
      folder: '',
      name,
      change: 'changed',
      before: look({ content: `${name} before`, random: was }),
      now: look({ content: `${name} now`, random: true, size: 10_000 + grown }),
    });
    const { counts, damaged } = read([
      ...['a', 'b', 'c', 'd'].map((n) => inPlace(n, false, 64)),
      inPlace('sealed', true, 64),
      inPlace('key-file', true, 900),
    ]);
    expect(counts.turnedRandom).toBe(4);
    expect(damaged.map((d) => d.name)).toEqual(['a', 'b', 'c', 'd', 'sealed']);
  });

  it('looks at each name once, however many of a folder share its beginning', () => {
    const many = Array.from({ length: 60_000 }, (_, i) => i);
    const { counts } = read([...many.map((i) => went(`roster.${i}`)), ...many.map((i) => came(`roster.${i}x`, { random: i % 2 === 0 }))]);
    expect(counts).toMatchObject({ removed: 60_000, renamed: 60_000 });
  });

  it('counts every removed file once: moved, replaced, or gone', () => {
    const change = fc.record({
      name: fc.constantFrom('a', 'b', 'a.x', 'b.x', 'c'),
      folder: fc.constantFrom('', 'f'),
      random: fc.boolean(),
      size: fc.nat(9000),
      content: fc.constantFrom('', 'p', 'q'),
      add: fc.boolean(),
    });
    fc.assert(
      fc.property(fc.uniqueArray(change, { selector: (c) => `${c.folder}/${c.name}` }), (list) => {
        const changes = list.map((c): SeenChange => (c.add ? came(c.name, c, c.folder) : went(c.name, c, c.folder)));
        const { counts, damaged } = read(changes);
        const gone = damaged.filter((d) => d.how === 'gone').length;
        expect(new Set(damaged.map((d) => `${d.folder}/${d.name}`)).size).toBe(damaged.length);
        expect(counts.moved! + gone + Math.max(counts.renamed, damaged.filter((d) => d.how === 'twin').length)).toBeLessThanOrEqual(
          counts.removed,
        );
        expect(counts.moved! + gone + counts.renamed + counts.twins!).toBeGreaterThanOrEqual(counts.removed);
      }),
    );
  });
});
