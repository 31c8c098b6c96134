import { describe, expect, it } from 'vitest';
import type { SequenceStep } from '@lithodex/contract';
import { canRise, expectedLanes, keyOf, restoreOf, waitWords, withoutStep, withRisen, withStep, withWaiting } from './sequence-steps';

const step = (id: number, after: number[] = [], wait = 0): SequenceStep => ({ restore: { by: 'workload', id }, after, wait });
/** What each waits for, by name instead of by place. */
const told = (steps: readonly SequenceStep[]) => steps.map((s) => [s.restore.id, s.after.map((j) => steps[j]!.restore.id)]);
const chain = [step(1), step(2, [0]), step(3, [1]), step(4, [0, 2])];

describe('the steps of a sequence', () => {
  it('are added behind the last, which they wait for', () => {
    expect(withStep([], { by: 'workload', id: 7 })).toEqual([step(7)]);
    expect(withStep(chain, { by: 'standing', id: 7 }).at(-1)).toEqual({ restore: { by: 'standing', id: 7 }, after: [3], wait: 0 });
  });

  it('keep their order when one between them is taken out', () => {
    expect(told(withoutStep(chain, 1))).toEqual([
      [1, []],
      [3, [1]],
      [4, [1, 3]],
    ]);
    expect(told(withoutStep(chain, 0))).toEqual([
      [2, []],
      [3, [2]],
      [4, [3]],
    ]);
  });

  it('change places only where neither waits for the other, and everybody waits for the same as before', () => {
    expect(canRise(chain, 0)).toBe(false);
    expect(canRise(chain, 1)).toBe(false);
    expect(withRisen(chain, 1)).toEqual(chain);
    const free = [step(1), step(2), step(3, [0]), step(4, [1, 2])];
    expect(told(withRisen(free, 1))).toEqual([
      [2, []],
      [1, []],
      [3, [1]],
      [4, [2, 3]],
    ]);
    expect(withRisen(free, 2)).not.toEqual(free);
  });

  it('wait for one more, or for it no longer', () => {
    expect(withWaiting(chain, 3, 1)[3]!.after).toEqual([0, 1, 2]);
    expect(withWaiting(chain, 3, 0)[3]!.after).toEqual([2]);
  });

  it('are told in words and drawn over time', () => {
    expect([waitWords(chain[0]!), waitWords(step(1, [], 5)), waitWords(chain[3]!), waitWords(step(9, [0, 1, 2], 10))]).toEqual([
      'at once',
      'after 5 min',
      'after 1 and 3',
      'after 1, 2 and 3, then 10 min',
    ]);
    expect(restoreOf(keyOf({ by: 'standing', id: 12 }))).toEqual({ by: 'standing', id: 12 });
    const part = {
      restore: { by: 'workload' as const, id: 1 },
      name: 'berths',
      kinds: [],
      place: '',
      takesMs: 4000,
      tried: null,
      cannot: '',
    };
    expect(expectedLanes([step(1), step(8, [0], 1)], new Map([['workload-1', part]]))).toEqual([
      { name: 'berths', beginMs: 0, endMs: 4000, mark: null },
      { name: 'what is gone', beginMs: 64_000, endMs: null, mark: null },
    ]);
  });
});
