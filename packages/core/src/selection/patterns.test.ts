import { describe, expect, it } from 'vitest';
import { isInside, pathFilter } from './patterns';

describe('patterns', () => {
  it.each([
    ['*.tmp', 'a/b/x.tmp', false, true],
    ['*.tmp', 'a/b/x.TMP', false, false],
    ['scratch/', 'deep/scratch', true, true],
    ['scratch/', 'deep/scratch', false, false],
    ['/var/cache', 'var/cache', true, true],
    ['/var/cache', 'x/var/cache', true, false],
    ['logs/**/old', 'logs/2026/11/old', true, true],
    ['!keep.tmp', 'keep.tmp', false, false],
    ['with space.txt', 'a/with space.txt', false, true],
  ])('exclude %s, %s: left out %s', (pattern, path, isFolder, leftOut) => {
    expect(pathFilter([], [pattern]).leftOut(path, isFolder)).toBe(leftOut);
  });

  it('takes a later exception back in', () => {
    const filter = pathFilter([], ['*.log', '!important.log']);
    expect([filter.leftOut('a.log', false), filter.leftOut('important.log', false)]).toEqual([true, false]);
  });

  it('takes only what is included, but enters every folder', () => {
    const filter = pathFilter(['*.chart'], ['draft*']);
    expect(filter.leftOut('any/folder', true)).toBe(false);
    expect(filter.leftOut('a/b.chart', false)).toBe(false);
    expect(filter.leftOut('a/b.txt', false)).toBe(true);
    expect(filter.leftOut('draft.chart', false)).toBe(true);
  });

  it('copes with names of any bytes', () => {
    const filter = pathFilter([], ['*.tmp']);
    expect(filter.leftOut('\xff\xfe\n.tmp', false)).toBe(true);
    expect(filter.leftOut('..hidden', false)).toBe(false);
    expect(pathFilter([], []).leftOut('x', false)).toBe(false);
  });
});

it('knows what lies inside what', () => {
  expect(isInside('/srv/a', '/srv/a')).toBe(true);
  expect(isInside('/srv/a/b', '/srv/a')).toBe(true);
  expect(isInside('/srv/ab', '/srv/a')).toBe(false);
  expect(isInside('/srv', '/')).toBe(true);
});
