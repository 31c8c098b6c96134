import fc from 'fast-check';
import { runStates, type RunState } from '@lithodex/contract';
import { describe, expect, it } from 'vitest';
import { runStateOf } from './run-state';

describe('the state of a run', () => {
  it.each<[RunState[], RunState]>([
    [['done', 'done'], 'done'],
    [['done', 'remarks'], 'remarks'],
    [['done', 'partsMissing', 'failed'], 'failed'],
    [['held', 'partsMissing'], 'held'],
    [['waiting', 'waiting'], 'waiting'],
    [['done', 'waiting'], 'running'],
    [['failed', 'running'], 'running'],
    [['stopped', 'done'], 'stopped'],
  ])('%j is %s', (tasks, state) => {
    expect(runStateOf(tasks)).toBe(state);
  });

  it('does not depend on the order of the tasks, and is never done while one is not', () => {
    fc.assert(
      fc.property(fc.array(fc.constantFrom(...runStates), { minLength: 1, maxLength: 6 }), (tasks) => {
        const state = runStateOf(tasks);
        expect(runStateOf([...tasks].reverse())).toBe(state);
        if (state === 'done') expect(tasks.every((t) => t === 'done')).toBe(true);
      }),
    );
  });
});
