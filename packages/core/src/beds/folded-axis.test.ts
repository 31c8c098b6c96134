import fc from 'fast-check';
import { expect, it } from 'vitest';
import { axisMarks, bedThickness, foldAge, unfoldAge } from './folded-axis';

const day = 86_400_000;
const ages = fc.integer({ min: 0, max: 1000 * day });

it('folds ages into 0–1 in order, and back', () => {
  fc.assert(
    fc.property(ages, ages, (a, b) => {
      const longest = 1000 * day;
      expect(foldAge(a, longest)).toBeGreaterThanOrEqual(0);
      expect(foldAge(a, longest)).toBeLessThanOrEqual(1);
      if (a < b) expect(foldAge(a, longest)).toBeLessThanOrEqual(foldAge(b, longest));
      expect(Math.abs(unfoldAge(foldAge(a, longest), longest) - a)).toBeLessThan(1000);
    }),
  );
});

it('stretches the last day and labels only what is on the axis', () => {
  expect(foldAge(day, 365 * day)).toBeGreaterThan(0.2);
  expect(axisMarks(10 * day).map((m) => m.label)).toEqual(['now', '6 h', '1 day', '3 days', '1 week']);
});

it('draws beds thinner the further apart the points are', () => {
  expect(bedThickness(3_600_000)).toBe(1);
  expect(bedThickness(day)).toBeLessThan(1);
  expect(bedThickness(365 * day)).toBeLessThan(bedThickness(30 * day));
  expect(bedThickness(1e15)).toBeGreaterThan(0);
});
