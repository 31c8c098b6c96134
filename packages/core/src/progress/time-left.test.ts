import fc from 'fast-check';
import { expect, it } from 'vitest';
import { timeLeft } from './time-left';

it('says nothing before something is known', () => {
  expect(timeLeft({ items: 0, bytes: 0 }, { items: 0, bytes: 0 }, 1000)).toBeUndefined();
  expect(timeLeft({ items: 0, bytes: 0 }, { items: 10, bytes: 10 }, 1000)).toBeUndefined();
});

it('is as long again at half, and nothing at the end', () => {
  expect(timeLeft({ items: 5, bytes: 50 }, { items: 10, bytes: 100 }, 8000)).toBe(8000);
  expect(timeLeft({ items: 20, bytes: 100 }, { items: 10, bytes: 100 }, 8000)).toBe(0);
});

it('never grows with the work done in the same time', () => {
  fc.assert(
    fc.property(fc.integer({ min: 1, max: 99 }), fc.integer({ min: 0, max: 100 }), (bytes, more) => {
      const at = (b: number) => timeLeft({ items: 0, bytes: b }, { items: 0, bytes: 100 }, 5000)!;
      expect(at(Math.min(100, bytes + more))).toBeLessThanOrEqual(at(bytes));
    }),
  );
});
