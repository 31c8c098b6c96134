import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { sequenceMoves, sequenceTimes, type OrderedStep, type StepState } from './sequence';

const steps = fc
  .array(
    fc.record({
      after: fc.array(fc.nat(30), { maxLength: 4 }),
      waitMs: fc.constantFrom(0, 0, 5, 60),
      takesMs: fc.integer({ min: 1, max: 50 }),
      fails: fc.oneof({ weight: 4, arbitrary: fc.constant(false) }, fc.constant(true)),
    }),
    { minLength: 1, maxLength: 20 },
  )
  .map((all) => all.map((s, i) => ({ ...s, after: i === 0 ? [] : [...new Set(s.after.map((j) => j % i))] })));

type Tried = OrderedStep & { readonly takesMs: number; readonly fails: boolean };
interface Went {
  state: StepState;
  beganAt: number | null;
  endedAt: number | null;
}

/** Plays a sequence from `start` on, an instant at a time, until it says that it is over. */
function played(all: readonly Tried[], start: number): Went[] {
  const went = all.map((): Went => ({ state: 'waiting', beganAt: null, endedAt: null }));
  for (let now = start; now < start + 100_000; now++) {
    all.forEach(({ takesMs, fails }, i) => {
      const own = went[i]!;
      if (own.state === 'running' && own.beganAt! + takesMs === now) Object.assign(own, { state: fails ? 'failed' : 'back', endedAt: now });
    });
    // what takes no wait begins in the same instant
    const moves = sequenceMoves(
      all.map((s, i) => ({ ...s, ...went[i]! })),
      start,
      now,
    );
    for (const i of moves.blocked) went[i]!.state = 'blocked';
    for (const i of moves.begin) Object.assign(went[i]!, { state: 'running', beganAt: now });
    if (moves.over) return went;
  }
  throw new Error('it never ended');
}

describe('a sequence', () => {
  it('ends, begins nothing before what it waits for is back, and blocks exactly what comes after a failure', () => {
    fc.assert(
      fc.property(steps, fc.nat(1000), (all, start) => {
        const went = played(all, start);
        went.forEach(({ state, beganAt }, i) => {
          const before = all[i]!.after.map((j) => went[j]!);
          const isBarred = before.some((b) => b.state !== 'back');
          expect(state).toBe(isBarred ? 'blocked' : all[i]!.fails ? 'failed' : 'back');
          if (beganAt !== null) expect(beganAt).toBe(Math.max(start, ...before.map((b) => b.endedAt!)) + all[i]!.waitMs);
        });
      }),
    );
  });

  it('takes as long as was foretold, where nothing fails', () => {
    fc.assert(
      fc.property(steps, (all) => {
        const well = all.map((s) => ({ ...s, fails: false }));
        const foretold = sequenceTimes(well);
        played(well, 0).forEach((w, i) => {
          expect([w.beganAt, w.endedAt]).toEqual([foretold[i]!.beginMs, foretold[i]!.endMs]);
        });
      }),
    );
  });

  it('foretells nothing of what comes after a step of which nobody knows', () => {
    const [a, b, c, d] = sequenceTimes([
      { after: [], waitMs: 0, takesMs: 10 },
      { after: [0], waitMs: 5, takesMs: null },
      { after: [1], waitMs: 0, takesMs: 1 },
      { after: [0], waitMs: 0, takesMs: 3 },
    ]);
    expect([a, b, c, d]).toEqual([
      { beginMs: 0, endMs: 10 },
      { beginMs: 15, endMs: null },
      { beginMs: null, endMs: null },
      { beginMs: 10, endMs: 13 },
    ]);
  });

  it('goes on where somebody passes over what failed, and says when the next may begin', () => {
    const failed = [
      { after: [], waitMs: 0, state: 'failed', endedAt: 100 },
      { after: [0], waitMs: 60, state: 'blocked', endedAt: null },
    ] as const;
    expect(sequenceMoves(failed, 0, 200)).toEqual({ begin: [], blocked: [1], nextAt: null, over: true });
    const without = [{ ...failed[0], state: 'passedOver' as const, endedAt: 200 }, failed[1]];
    expect(sequenceMoves(without, 0, 200)).toEqual({ begin: [], blocked: [], nextAt: 260, over: false });
    expect(sequenceMoves(without, 0, 260).begin).toEqual([1]);
  });
});
