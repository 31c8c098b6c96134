import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import type { ChangeCounts } from './change-counts';
import { judgePoint, type EarlierPoint } from './judge-point';

const day = 86_400_000;
const start = Date.UTC(2026, 8, 1, 22);
const none: ChangeCounts = { of: 'files', before: 1000, added: 0, changed: 0, removed: 0, random: 0, turnedRandom: 0, renamed: 0 };
const nights = (n: number, of: (i: number) => Partial<ChangeCounts> = () => ({ changed: 5, added: 4 })): EarlierPoint[] =>
  Array.from({ length: n }, (_, i) => ({ moment: start + i * day, counts: { ...none, ...of(i) }, held: false }));
const judge = (counts: Partial<ChangeCounts>, history: EarlierPoint[] = nights(30), terms = { limit: 0.4, holdFrom: 60 }) =>
  judgePoint({ ...none, ...counts }, start + history.length * day, history, terms);
const codes = (u: ReturnType<typeof judge>) => u.signs.map((s) => s.code);

describe('a point against what is usual', () => {
  it('is never unusual when it is the first', () => {
    expect(judge({ before: 0, added: 50_000, random: 50_000 }, [])).toMatchObject({ score: 0, suspect: false, learned: 0 });
  });

  it('is held when files turn random, a whole tree or a few of it, known workload or new', () => {
    for (const history of [nights(30), nights(2)]) {
      const all = judge({ removed: 900, added: 900, random: 900, twins: 900, renamed: 900, ending: '.krx' }, history);
      expect(all).toMatchObject({ suspect: true, score: 100 });
      expect(all.reasons[0]).toBe('900 files are gone and have a twin that looks random, as encrypted data does, most with .krx added');
      expect(judge({ changed: 40, random: 40, turnedRandom: 40 }, history).suspect).toBe(true);
      expect(judge({ changed: 3, random: 2, turnedRandom: 2 }, history).suspect).toBe(false);
    }
  });

  it('adds up what goes slowly', () => {
    const slow = nights(30, (i) => ({ changed: 6, turnedRandom: i > 24 ? 3 : 0 }));
    expect(codes(judge({ changed: 6, turnedRandom: 3 }, slow))).toContain('encryptedSlowly');
    expect(judge({ changed: 6, turnedRandom: 3 }, slow).suspect).toBe(true);
    expect(judge({ changed: 6, turnedRandom: 3 }).suspect).toBe(false);
  });

  it('takes what happens by chance every night for usual', () => {
    const caching = nights(30, (i) => ({ added: 300, removed: 300, random: 200, twins: 30 + (i % 5) }));
    expect(judge({ added: 300, removed: 300, random: 200, twins: 36 }, caching).suspect).toBe(false);
    expect(judge({ added: 300, removed: 300, random: 250, twins: 200 }, caching).suspect).toBe(true);
  });

  it('is held when far more went than ever, but not when it was moved, archived or old', () => {
    expect(codes(judge({ removed: 350, removedFresh: 120, removedBytes: 1e6 }))).toContain('deleted');
    expect(judge({ removed: 350, removedFresh: 120, removedBytes: 1e6 }).suspect).toBe(true);
    expect(judge({ removed: 350, moved: 345, added: 345 }).suspect).toBe(false);
    expect(judge({ removed: 350, removedFresh: 120, removedBytes: 1e6, addedBytes: 5e5 }).suspect).toBe(false);
    expect(judge({ removed: 350, removedFresh: 0, removedBytes: 1e6 }).suspect).toBe(false);
  });

  it('knows the turn of the month and the day of the week', () => {
    const monthly = nights(100, (i) => ({ removed: new Date(start + (i + 1) * day).getUTCDate() === 1 ? 300 : 2, removedFresh: 200 }));
    const turn = monthly.findLastIndex((p) => p.counts.removed === 300);
    expect(judge({ removed: 310, removedFresh: 200 }, monthly.slice(0, turn)).suspect).toBe(false);
    expect(judge({ removed: 310, removedFresh: 200 }, nights(30)).suspect).toBe(true);
  });

  it('is held past the limit whatever is usual, and never where a person said so', () => {
    expect(judge({ changed: 500 }, nights(30), { limit: 0.4, holdFrom: 101 }).suspect).toBe(true);
    expect(judge({ changed: 500 }, nights(30), { limit: 1, holdFrom: 101 }).suspect).toBe(false);
    expect(judge({ before: 10, changed: 10 }, nights(30), { limit: 0.2, holdFrom: 60 }).suspect).toBe(false);
  });

  it('tells blocks that turned random from those a machine writes anyway', () => {
    const machine = nights(30, (i) => ({ of: 'blocks', before: 50_000, changed: 1000 + (i % 7) * 60, random: 250 + (i % 7) * 20 }));
    const blocks = (changed: number, random: number) =>
      judge({ of: 'blocks', before: 50_000, changed, random }, machine, { limit: 1, holdFrom: 60 });
    expect(blocks(20_000, 5000).suspect).toBe(false);
    expect(blocks(20_000, 19_200).suspect).toBe(true);
    expect(blocks(3000, 2200).suspect).toBe(true);
  });

  it('learns nothing from what is held', () => {
    const bad = nights(30).map((p, i) => (i > 25 ? { ...p, held: true, counts: { ...none, turnedRandom: 400, changed: 400 } } : p));
    expect(judge({ changed: 300, random: 300, turnedRandom: 300 }, bad)).toMatchObject({ suspect: true, learned: 26 });
  });

  it('scores between 0 and 100, and more damage never scores less', () => {
    const counts = fc.record({
      before: fc.nat(5000),
      added: fc.nat(5000),
      changed: fc.nat(3000),
      removed: fc.nat(3000),
      random: fc.nat(5000),
      turnedRandom: fc.nat(3000),
      renamed: fc.nat(3000),
      twins: fc.nat(3000),
    });
    fc.assert(
      fc.property(counts, fc.nat(500), fc.nat(40), (c, more, n) => {
        const a = judge(c, nights(n));
        const b = judge({ ...c, turnedRandom: c.turnedRandom + more }, nights(n));
        expect(a.score).toBeGreaterThanOrEqual(0);
        expect(b.score).toBeLessThanOrEqual(100);
        if (c.turnedRandom + c.twins > 0) expect(b.score).toBeGreaterThanOrEqual(Math.min(a.score, 60));
      }),
    );
  });
});
