import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { spreadGaps, spreadOf, type Standing } from './spread';

const standings: fc.Arbitrary<Standing[]> = fc.array(
  fc.record({ media: fc.constantFrom('folder', 'bucket'), location: fc.constantFrom('', 'quay', 'north'), locked: fc.boolean() }),
  { maxLength: 5 },
);

describe('the spread of a workload', () => {
  it.each<[Standing[], string, string[]]>([
    [[], 'quay', ['2 more copies', 'another kind of media', 'a copy elsewhere', 'a locked copy']],
    [
      [{ media: 'folder', location: 'quay', locked: false }],
      'quay',
      ['1 more copy', 'another kind of media', 'a copy elsewhere', 'a locked copy'],
    ],
    [
      [
        { media: 'folder', location: 'quay', locked: false },
        { media: 'bucket', location: 'north', locked: true },
      ],
      'quay',
      [],
    ],
    [
      [
        { media: 'folder', location: 'quay', locked: false },
        { media: 'bucket', location: '', locked: false },
      ],
      'quay',
      ['a place that is not known', 'a locked copy'],
    ],
  ])('%j from %s lacks %j', (list, origin, gaps) => {
    expect(spreadGaps(spreadOf(list, origin))).toEqual(gaps);
  });

  it('never lacks more when a copy is added in a known place', () => {
    fc.assert(
      fc.property(standings, fc.constantFrom('quay', 'north'), (list, origin) => {
        const more = spreadGaps(spreadOf([...list, { media: 'bucket', location: 'other', locked: true }], origin));
        expect(more.length).toBeLessThanOrEqual(spreadGaps(spreadOf(list, origin)).length);
      }),
    );
  });
});
