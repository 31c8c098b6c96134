/** What was used at an instant (ms), in bytes. */
export interface RoomSample {
  readonly at: number;
  readonly used: number;
}

export interface Forecast {
  /** Bytes a day, and the bounds within which it lies with about 80 % confidence. */
  readonly perDay: number;
  readonly low: number;
  readonly high: number;
  /** Bytes by which each day of the week (0 = Monday, UTC) lies above or below the trend. */
  readonly season: readonly number[];
  /** The last sample without its season. */
  readonly level: number;
  /** Days the samples span. */
  readonly span: number;
  /** Made from less than a month, so no more than an estimate. */
  readonly estimated: boolean;
}

const day = 86_400_000;
const week = 7 * day;
const monthDays = 30;
const leastDays = 4;

const dayNumber = (at: number) => Math.floor(at / day);
const weekday = (at: number) => (dayNumber(at) + 3) % 7;

/** The middle of some values; the mean of the two in the middle where their number is even. NaN for none. */
export function median(values: readonly number[]): number {
  const sorted = [...values].sort((a, b) => a - b);
  const middle = sorted.length >> 1;
  return sorted.length % 2 ? sorted[middle]! : (sorted[middle - 1]! + sorted[middle]!) / 2;
}

/** Last sample of each day, oldest first. */
function daily(samples: readonly RoomSample[]): RoomSample[] {
  const last = new Map<number, RoomSample>();
  for (const s of [...samples].sort((a, b) => a.at - b.at)) last.set(dayNumber(s.at), s);
  return [...last.values()];
}

/**
 * The trend of a target's room, robust against single jumps (a prune, a first copy), with its weekly season. With two weeks or more the slopes are those between days a week apart, so
 * that the season drops out; before that, between all pairs of days (Theil 1950, Sen 1968: the median of slopes). The bounds are those of the median by the sign test (Thompson 1936),
 * about 80 %, with overlapping weeks counted as one seventh of an observation each. Undefined for less than four days.
 */
export function forecastRoom(samples: readonly RoomSample[]): Forecast | undefined {
  const days = daily(samples);
  const first = days[0];
  const last = days.at(-1);
  if (!first || !last || days.length < leastDays) return undefined;
  const span = (last.at - first.at) / day;
  const weekly = span >= 14;
  const slopes = weekly ? weekSlopes(days) : pairSlopes(days);
  if (!slopes.length) return undefined;
  const perDay = median(slopes);
  const [low, high] = medianBounds(slopes, weekly ? slopes.length / 7 : Math.sqrt(2 * slopes.length));
  const season = weekly ? seasonOf(days.slice(-63), perDay) : [0, 0, 0, 0, 0, 0, 0];
  // what was written last stays, so the level is where the room is now, not where a trend would have it
  const level = last.used - season[weekday(last.at)]!;
  return { perDay, low, high, season, level, span, estimated: span < monthDays };
}

function weekSlopes(days: readonly RoomSample[]): number[] {
  const slopes: number[] = [];
  let from = 0;
  for (const s of days) {
    while (from < days.length && days[from]!.at < s.at - week - day / 2) from++;
    const before = days[from];
    if (before && Math.abs(s.at - before.at - week) <= day / 2) slopes.push(((s.used - before.used) * day) / (s.at - before.at));
  }
  return slopes;
}

function pairSlopes(days: readonly RoomSample[]): number[] {
  return days.flatMap((b, i) => days.slice(0, i).map((a) => ((b.used - a.used) * day) / (b.at - a.at)));
}

/** Order statistics around the median that hold it with about 80 %, for so many independent observations. */
function medianBounds(values: readonly number[], independent: number): [number, number] {
  const sorted = [...values].sort((a, b) => a - b);
  const half = Math.min(0.5, (1.2816 * 0.5) / Math.sqrt(Math.max(1, independent)));
  const at = (share: number) => sorted[Math.min(sorted.length - 1, Math.max(0, Math.round(share * (sorted.length - 1))))]!;
  return [at(0.5 - half), at(0.5 + half)];
}

/** How each weekday lies to the mean of the seven days around it, the median over the weeks; days whose week has holes are passed over. */
function seasonOf(days: readonly RoomSample[], perDay: number): number[] {
  const rest: number[][] = Array.from({ length: 7 }, () => []);
  for (let i = 3; i + 3 < days.length; i++) {
    const around = days.slice(i - 3, i + 4);
    const middle = days[i]!;
    if (dayNumber(around[6]!.at) - dayNumber(around[0]!.at) !== 6) continue;
    const mean = around.reduce((sum, s) => sum + s.used - (perDay * (s.at - middle.at)) / day, 0) / 7;
    rest[weekday(middle.at)]!.push(middle.used - mean);
  }
  const medians = rest.map((r) => (r.length ? median(r) : 0));
  const mean = medians.reduce((a, b) => a + b, 0) / 7;
  return medians.map((m) => m - mean);
}

/** What will be used at an instant (ms) after the last sample `from`, by a slope. */
export function expectedRoom(f: Forecast, from: number, at: number, perDay = f.perDay): number {
  return Math.max(0, f.level + (perDay * (at - from)) / day + f.season[weekday(at)]!);
}

export interface FillDate {
  /** Instants, ms; undefined where that never happens at this rate. */
  readonly expected: number | undefined;
  readonly earliest: number | undefined;
  readonly latest: number | undefined;
}

/** When a target with `capacity` bytes will be full, told from the last sample `from` (ms) on. */
export function fillDate(f: Forecast, from: number, capacity: number): FillDate {
  const at = (perDay: number) => (f.level >= capacity ? from : perDay > 0 ? from + ((capacity - f.level) / perDay) * day : undefined);
  return { expected: at(f.perDay), earliest: at(f.high), latest: at(f.low) };
}
