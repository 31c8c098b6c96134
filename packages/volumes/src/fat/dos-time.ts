/** Date and time as FAT and exFAT keep them, in nanoseconds since 1970; taken as UTC, as nobody says which zone they are of. */
export function dosTimeNs(date: number, time: number, hundredths = 0): bigint {
  const [year, month, day] = [1980 + (date >> 9), (date >> 5) & 15, date & 31];
  const at = Date.UTC(year, Math.max(1, month) - 1, Math.max(1, day), time >> 11, (time >> 5) & 63, (time & 31) * 2);
  return BigInt(at + hundredths * 10) * 1_000_000n;
}
