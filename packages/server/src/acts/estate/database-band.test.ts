import { describe, expect, it } from 'vitest';
import { leadsTo } from './database-band';

const full = { file: 'changes.000009', at: 500, id: '0-7-4', since: 10_000 };

describe('a full that leads to a moment', () => {
  it.each([
    ['an earlier second', { at: 9_000 }, false],
    ['its own second, of which all is wanted', { at: 10_000 }, true],
    ['a later second', { at: 12_000 }, true],
    ['right before a commit of its own second that it holds', { at: 10_000, file: 'changes.000009', position: 400 }, false],
    ['right before the first commit after it', { at: 10_000, file: 'changes.000009', position: 500 }, true],
    ['right before one of a later file', { at: 12_000, file: 'changes.000010', position: 4 }, true],
    ['right before one of an earlier file', { at: 10_000, file: 'changes.000008', position: 900 }, false],
  ])('%s', (_, until, leads) => {
    expect(leadsTo(full, until)).toBe(leads);
  });
});
