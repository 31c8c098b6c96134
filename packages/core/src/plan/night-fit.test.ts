import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { fitTasks, outcomeOf, whatHelps, type FittedTask, type PlannedTask, type Room } from './night-fit';

const minute = 60_000;
const tasks: fc.Arbitrary<PlannedTask[]> = fc
  .array(
    fc.record({
      policyId: fc.integer({ min: 1, max: 3 }),
      due: fc.integer({ min: 0, max: 300 }).map((m) => m * minute),
      lasts: fc.integer({ min: 1, max: 120 }).map((m) => m * minute),
      priority: fc.integer({ min: 0, max: 2 }),
      targetId: fc.constantFrom('a', 'b'),
      sourceId: fc.integer({ min: 1, max: 3 }),
      series: fc.constantFrom('p', 'q', 'r', 's', 't'),
      window: fc.option(fc.record({ ends: fc.integer({ min: 1, max: 400 }).map((m) => m * minute), stop: fc.boolean() }), {
        nil: undefined,
      }),
    }),
    { maxLength: 25 },
  )
  .map((list) => list.map(({ window, ...t }, i) => ({ ...t, key: String(i).padStart(3, '0'), ...(window && { window }) })));
const free = (list: readonly PlannedTask[]) => list.map(({ window: _window, ...t }): PlannedTask => t);
const rooms: fc.Arbitrary<Room> = fc.record({
  slots: fc.integer({ min: 1, max: 4 }),
  inAll: fc.constantFrom(1, 2, Infinity),
  perTarget: fc.constantFrom(
    new Map<string, number>(),
    new Map([['a', 1]]),
    new Map([
      ['a', 2],
      ['b', 1],
    ]),
  ),
  perSource: fc.constantFrom(new Map<number, number>(), new Map([[1, 1]])),
});
const atWork = (fitted: readonly FittedTask[], at: number) => fitted.filter((f) => f.start !== null && f.start <= at && at < f.end!);

describe('a night', () => {
  it('never has more at work than there is room for, and one task of a series at a time', () => {
    fc.assert(
      fc.property(tasks, rooms, (list, room) => {
        const fitted = fitTasks(list, room);
        for (const { start } of fitted) {
          if (start === null) continue;
          const there = atWork(fitted, start).map((f) => f.task);
          expect(there.length).toBeLessThanOrEqual(Math.min(room.slots, room.inAll));
          for (const [id, most] of room.perTarget) expect(there.filter((t) => t.targetId === id).length).toBeLessThanOrEqual(most);
          for (const [id, most] of room.perSource) expect(there.filter((t) => t.sourceId === id).length).toBeLessThanOrEqual(most);
          expect(new Set(there.map((t) => t.series)).size).toBe(there.length);
        }
      }),
    );
  });

  it('starts nothing before its time or after its window, and gives each task what it takes', () => {
    fc.assert(
      fc.property(tasks, rooms, (list, room) => {
        for (const { task, start, end, cutOff } of fitTasks(list, room)) {
          if (start === null) {
            expect(task.window).toBeDefined();
            continue;
          }
          expect(start).toBeGreaterThanOrEqual(task.due);
          if (task.window) expect(start).toBeLessThan(task.window.ends);
          expect(end! - start).toBe(cutOff ? task.window!.ends - start : task.lasts);
          if (task.window?.stop) expect(end).toBeLessThanOrEqual(task.window.ends);
        }
      }),
    );
  });

  it('leaves nobody idle who could work: what waits would find no room', () => {
    fc.assert(
      fc.property(tasks, rooms, (list, room) => {
        const fitted = fitTasks(list, room);
        const moments = fitted.flatMap((f) => (f.end === null ? [] : [f.end])).concat(list.map((t) => t.due));
        for (const { task, start } of fitted)
          for (const at of moments) {
            if (at < task.due || at >= (start ?? task.window!.ends)) continue;
            const there = atWork(fitted, at).map((f) => f.task);
            const count = (which: (t: PlannedTask) => boolean) => there.filter(which).length;
            expect(
              there.length >= Math.min(room.slots, room.inAll) ||
                count((t) => t.series === task.series) > 0 ||
                count((t) => t.targetId === task.targetId) >= (room.perTarget.get(task.targetId) ?? Infinity) ||
                count((t) => t.sourceId === task.sourceId) >= (room.perSource.get(task.sourceId) ?? Infinity),
            ).toBe(true);
          }
      }),
    );
  });

  it('ends between what the work takes at best and what it takes one by one', () => {
    fc.assert(
      fc.property(tasks.map(free), rooms, (list, room) => {
        const { ends, missed } = outcomeOf(fitTasks(list, room));
        expect(missed).toBe(0);
        if (!list.length) return;
        const total = list.reduce((sum, t) => sum + t.lasts, 0);
        expect(ends!).toBeGreaterThanOrEqual(Math.max(...list.map((t) => t.due + t.lasts)));
        expect(ends!).toBeGreaterThanOrEqual(Math.min(...list.map((t) => t.due)) + total / Math.min(room.slots, room.inAll));
        expect(ends!).toBeLessThanOrEqual(Math.max(...list.map((t) => t.due)) + total);
      }),
    );
  });

  it('begins what follows when all of it has ended, and not where a part of it does not take place', () => {
    fc.assert(
      fc.property(tasks, rooms, fc.array(fc.tuple(fc.nat(30), fc.nat(30)), { maxLength: 12 }), (list, room, pairs) => {
        if (!list.length) return;
        const follows = new Map<number, string[]>();
        for (const [a, b] of pairs) {
          const [first, second] = [Math.min(a, b) % list.length, Math.max(a, b) % list.length];
          if (first < second) follows.set(second, [...new Set([...(follows.get(second) ?? []), list[first]!.key])]);
        }
        const chained = list.map((t, i) => (follows.has(i) ? { ...t, follows: follows.get(i)! } : t));
        const fitted = fitTasks(chained, room);
        const byKey = new Map(fitted.map((f) => [f.task.key, f]));
        for (const { task, due } of fitted) {
          const ends = (task.follows ?? []).map((key) => byKey.get(key)!.end);
          expect(due).toBe(ends.includes(null) ? null : Math.max(task.due, ...ends.map(Number)));
        }
      }),
    );
  });

  it('does not depend on the order in which its tasks are named', () => {
    fc.assert(
      fc.property(tasks, rooms, (list, room) => {
        const byKey = (f: readonly FittedTask[]) => [...f].sort((a, b) => (a.task.key < b.task.key ? -1 : 1));
        expect(byKey(fitTasks([...list].reverse(), room))).toEqual(byKey(fitTasks(list, room)));
      }),
    );
  });

  it('has nothing at work without a mover', () => {
    const task: PlannedTask = { key: '1', policyId: 1, due: 0, lasts: minute, priority: 1, targetId: 'a', sourceId: 1, series: 'p' };
    expect(outcomeOf(fitTasks([task], { slots: 0, inAll: Infinity, perTarget: new Map(), perSource: new Map() }))).toEqual({
      ends: null,
      missed: 1,
    });
  });
});

describe('what helps', () => {
  const one = (n: number, more: Partial<PlannedTask> = {}): PlannedTask => ({
    key: `k${n}`,
    policyId: 1,
    due: 0,
    lasts: 60 * minute,
    priority: 1,
    targetId: 'a',
    sourceId: n,
    series: `s${n}`,
    ...more,
  });
  const room: Room = { slots: 1, inAll: Infinity, perTarget: new Map([['a', 1]]), perSource: new Map() };

  it('names only what makes a difference, best first', () => {
    const list = [one(1), one(2), one(3, { targetId: 'b' })];
    expect(whatHelps(list, room).map((h) => h.change)).toEqual([{ kind: 'slot' }, { kind: 'earlier', policyId: 1 }]);
    expect(whatHelps(list, { ...room, slots: 2 }).map((h) => [h.change.kind, h.ends])).toEqual([['earlier', 60 * minute]]);
    expect(whatHelps([one(1), one(2)], { ...room, slots: 2 }).map((h) => h.change.kind)).toEqual(['target', 'earlier']);
  });

  it('is better than what is, whatever it names', () => {
    fc.assert(
      fc.property(tasks, rooms, (list, there) => {
        const before = outcomeOf(fitTasks(list, there));
        for (const after of whatHelps(list, there))
          expect(after.missed < before.missed || (after.missed === before.missed && after.ends! < before.ends!)).toBe(true);
      }),
      { numRuns: 50 },
    );
  });
});
