import { describe, expect, it } from 'vitest';
import { isBegunLate } from './begun-late';

/** A log that begins with a second and a place. */
const log = (from: number, at: number, cause = '') => ({
  reach: [{ stretch: 1, from, to: from + 100, cause, begins: { file: 'changes.000002', at } }],
});
const full = (since: number, at: number, file = 'changes.000002') => ({ file, at, id: '', since });

describe('a log', () => {
  it('is taken once more where the only full was taken right before it began, if in the same second', () => {
    expect(isBegunLate(log(50, 400), [full(40, 300)])).toBe(true);
    expect(isBegunLate(log(50, 400), [full(50, 399)])).toBe(true);
    expect(isBegunLate(log(50, 400), [full(50, 900, 'changes.000001')])).toBe(true);
    expect(isBegunLate(log(50, 400), [full(10, 20), full(40, 300)])).toBe(true);
  });

  it('stays as it is while there is no full, and where one leads into it', () => {
    expect(isBegunLate(log(50, 400), [])).toBe(false);
    expect(isBegunLate(log(50, 400), [full(50, 400)])).toBe(false);
    expect(isBegunLate(log(50, 400), [full(40, 300), full(60, 500)])).toBe(false);
    expect(isBegunLate({ reach: [] }, [full(40, 300)])).toBe(false);
  });

  it('stays as it is where it is known not to go back any further', () => {
    expect(isBegunLate(log(50, 400, 'purged before it was read'), [full(40, 300)])).toBe(false);
  });
});
