/**
 * True when a sample of `length` bytes is spread as evenly as random bytes are: chi-square against the even distribution, with 255 degrees of freedom, below 400
 * (about 255 for encrypted data, thousands for text and most archives). As the counts of the bytes sum up to `length`, their sum of squares is all it needs:
 * χ² = Σ (c − n/256)² / (n/256) = 256/n · Σ c² − n.
 */
export function spreadLikeRandom(sumOfSquares: number, length: number): boolean {
  return (256 * sumOfSquares) / length - length < 400;
}

/** Of less nothing is said, in bytes. */
export const leastSample = 256;

/** True when a sample of at least {@link leastSample} bytes is spread as random bytes are. */
export function looksRandom(sample: Uint8Array): boolean {
  if (sample.length < leastSample) return false;
  const counts = new Uint32Array(256);
  // eslint-disable-next-line @typescript-eslint/prefer-for-of -- iterating a buffer takes ten times as long
  for (let i = 0; i < sample.length; i++) counts[sample[i]!]!++;
  return spreadLikeRandom(
    counts.reduce((sum, n) => sum + n * n, 0),
    sample.length,
  );
}
