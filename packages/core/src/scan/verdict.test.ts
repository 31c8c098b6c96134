import { describe, expect, it } from 'vitest';
import { grouped } from '../text/grouped';
import { lastClean, verdictOf, type Verdict } from './verdict';

const scan = (more: object = {}) => ({ rules: 'new', suspect: 0, infected: 0, notLooked: 0, ...more });
const points = (...verdicts: Verdict[]) => verdicts.map((verdict, i) => ({ verdict, id: i }));

describe('a verdict', () => {
  it('is clean only by the newest rules, with all of it looked into', () => {
    expect(verdictOf(undefined, 'new')).toBe('unscanned');
    expect(verdictOf(scan(), 'new')).toBe('clean');
    expect(verdictOf(scan(), 'newer')).toBe('nothing');
    expect(verdictOf(scan({ notLooked: 1 }), 'new')).toBe('nothing');
  });

  it('stays what was found, whatever rules came since', () => {
    expect(verdictOf(scan({ suspect: 2 }), 'newer')).toBe('suspect');
    expect(verdictOf(scan({ suspect: 2, infected: 1, notLooked: 3 }), 'newer')).toBe('infected');
  });
});

describe('the last clean point', () => {
  it('is the newest one scanned clean since nothing was found any more', () => {
    expect(lastClean(points('clean', 'infected', 'clean', 'clean'))?.id).toBe(3);
    expect(lastClean(points('clean', 'infected', 'nothing', 'unscanned'))?.id).toBe(2);
    expect(lastClean(points('clean', 'clean', 'infected', 'unscanned'))?.id).toBe(1);
  });

  it('is one against which nothing is known where none is clean, and none where none was scanned', () => {
    expect(lastClean(points('nothing', 'suspect'))?.id).toBe(0);
    expect(lastClean(points('unscanned', 'infected'))).toBeUndefined();
    expect(lastClean(points())).toBeUndefined();
  });
});

describe('grouping', () => {
  it('keeps the order of keys and of items', () => {
    expect([...grouped(['tide', 'berth', 'tern', 'bank'], (word) => word[0])]).toEqual([
      ['t', ['tide', 'tern']],
      ['b', ['berth', 'bank']],
    ]);
  });
});
