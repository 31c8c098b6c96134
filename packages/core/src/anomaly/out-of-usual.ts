import { median } from '../forecast/forecast';

const fewest = 5;
/** Makes the median absolute deviation comparable with a standard deviation (of a normal distribution). */
const madToSigma = 1.4826;
const sigmas = 5;
const leastTimes = 2;

/**
 * How many times the usual a value is, when it is far above: over twice the median of what went before, and over five robust standard deviations (from the median absolute deviation, Rousseeuw
 * and Croux 1993) away from it. Undefined when it is not, when it stays below `floor`, or when fewer than five values went before.
 */
export function outOfUsual(history: readonly number[], value: number, floor: number): number | undefined {
  if (history.length < fewest || value < floor) return undefined;
  // most values end here, and counting is cheaper than sorting
  if (2 * history.filter((v) => leastTimes * v >= value).length > history.length) return undefined;
  const usual = median(history);
  const spread = madToSigma * median(history.map((v) => Math.abs(v - usual)));
  if (value <= leastTimes * usual || value <= usual + sigmas * spread) return undefined;
  return value / Math.max(usual, floor / leastTimes);
}
