export interface Work {
  readonly items: number;
  readonly bytes: number;
}

/**
 * Time left in ms, from work done and expected after `elapsed` ms. Items and bytes are weighted equally, as small files cost time
 * and large ones bytes; undefined until something can be said.
 */
export function timeLeft(done: Work, expected: Work, elapsed: number): number | undefined {
  const shares: number[] = [];
  if (expected.items > 0) shares.push(Math.min(1, done.items / expected.items));
  if (expected.bytes > 0) shares.push(Math.min(1, done.bytes / expected.bytes));
  if (!shares.length || elapsed <= 0) return undefined;
  const share = shares.reduce((a, b) => a + b, 0) / shares.length;
  return share <= 0 ? undefined : Math.round((elapsed * (1 - share)) / share);
}
