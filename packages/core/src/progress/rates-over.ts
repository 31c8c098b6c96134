/** A total that only grows, as it stood at an instant (ms). */
export interface Reading {
  readonly at: number;
  readonly total: number;
}

/**
 * Rates over time from the readings of several things that went on beside each other: for each of `slots` equal parts of [`from`, `to`) the sum a second. Between two readings the rate is taken
 * as even. Readings stand in order of time; a total that falls (a thing begun anew) counts from there.
 */
export function ratesOver(series: readonly (readonly Reading[])[], from: number, to: number, slots: number): number[] {
  const slotMs = (to - from) / slots;
  const sums = Array.from({ length: slots }, () => 0);
  for (const readings of series)
    readings.slice(1).forEach((now, i) => {
      const before = readings[i]!;
      const [ms, moved] = [now.at - before.at, now.total - before.total];
      if (ms <= 0 || moved <= 0) return;
      const first = Math.max(0, Math.floor((before.at - from) / slotMs));
      for (let slot = first; slot < slots && from + slot * slotMs < now.at; slot++) {
        const begin = Math.max(before.at, from + slot * slotMs);
        const end = Math.min(now.at, from + (slot + 1) * slotMs);
        sums[slot]! += moved * (Math.max(0, end - begin) / ms);
      }
    });
  return sums.map((sum) => (sum / slotMs) * 1000);
}
