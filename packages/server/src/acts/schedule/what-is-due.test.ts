import type { PolicyRule } from '@lithodex/contract';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { timePassed, windowShut } from '../../records/runs/time-causes';
import { inOrder, minutesAfter, passedOver, PointsTaken } from './what-is-due';

const minute = 60_000;
const rule = (no: number, kind: PolicyRule['kind'], targetId = 'quay', parts: PolicyRule['parts'] = []): PolicyRule =>
  ({ no, kind, targetId, parts, schedule: { every: 'hand' }, keep: { by: 'days', days: 1 } }) as unknown as PolicyRule;

describe('what is due', () => {
  it('is tried again after a minute, then twice as long after each further failure, half an hour at most', () => {
    expect(minutesAfter([])).toBe(1);
    expect(minutesAfter(['done', 'failed', 'failed'])).toBe(1);
    expect(minutesAfter(['failed', 'done'])).toBe(1);
    expect([2, 3, 4, 5, 6].map((n) => minutesAfter(Array<string>(n).fill('failed')))).toEqual([2, 4, 8, 16, 30]);
    fc.assert(
      fc.property(fc.array(fc.constantFrom('failed', 'done', 'stopped'), { maxLength: 6 }), (states) => {
        expect(minutesAfter(['failed', ...states])).toBeGreaterThanOrEqual(minutesAfter(states[0] === 'failed' ? states : []));
        expect(minutesAfter(states)).toBeLessThanOrEqual(30);
      }),
    );
  });

  it('is passed over when its time is long gone or its window shut, unless it catches up', () => {
    const due = 1_000_000;
    expect(passedOver(false, due, due + 9 * minute, undefined)).toBeUndefined();
    expect(passedOver(false, due, due + 11 * minute, undefined)).toBe(timePassed);
    expect(passedOver(false, due, due, { open: false })).toBe(windowShut);
    expect(passedOver(false, due, due, { open: true })).toBeUndefined();
    for (const within of [undefined, { open: false }, { open: true }])
      expect(passedOver(true, due, due + 1000 * minute, within)).toBeUndefined();
  });

  it('comes in the order of what it reads, and one point on a target does for all', () => {
    const rules = [rule(1, 'incremental'), rule(2, 'full'), rule(3, 'log'), rule(4, 'differential', 'cellar')];
    const due = new Map([
      [1, 10],
      [2, 20],
      [3, 30],
      [4, 40],
    ]);
    const found = inOrder(rules, due);
    expect(found[0]).toMatchObject({ rule: { no: 2 }, due: 20 });
    expect(found.map((d) => d.rule.no).sort()).toEqual([1, 2, 3, 4]);
    const taken = new PointsTaken();
    const own = found.filter(({ rule: r }) => {
      if (taken.covers(r)) return false;
      taken.take(r);
      return true;
    });
    expect(own.map((d) => d.rule.no).sort()).toEqual([2, 3, 4]);
    expect(inOrder(rules, new Map([[1, 10]])).map((d) => d.rule.no)).toEqual([1]);
  });

  it('takes a point of its own for a part, unless one that reads that part starts with it', () => {
    const rules = [
      rule(1, 'incremental', 'quay', ['Mail']),
      rule(2, 'incremental', 'quay', ['Drive']),
      rule(3, 'incremental', 'quay', ['Mail', 'Calendars']),
    ];
    const own = (due: readonly PolicyRule[]) => {
      const taken = new PointsTaken();
      return inOrder(due, new Map(due.map((r) => [r.no, 1])))
        .filter(({ rule: r }) => {
          if (taken.covers(r)) return false;
          taken.take(r);
          return true;
        })
        .map((d) => d.rule.no);
    };
    expect(own(rules)).toEqual([3, 2]);
    expect(own([...rules, rule(4, 'incremental')])).toEqual([4]);
    expect(own([...rules, rule(4, 'incremental', 'mole')])).toEqual([4, 3, 2]);
  });
});
