import { DateTime } from 'luxon';

const units = ['B', 'kB', 'MB', 'GB', 'TB', 'PB'];

/** Decimal size with unit, three significant digits: 999 B, 1.02 kB, 412 MB. */
export function formatBytes(bytes: number): string {
  if (!Number.isFinite(bytes)) return '–';
  const sign = bytes < 0 ? '−' : '';
  let value = Math.abs(bytes);
  let unit = 0;
  while (value >= 999.5 && unit < units.length - 1) {
    value /= 1000;
    unit++;
  }
  const digits = unit === 0 ? 0 : value < 9.995 ? 2 : value < 99.95 ? 1 : 0;
  return `${sign}${value.toFixed(digits)} ${units[unit]}`;
}

/** Whole number with thin spaces between groups of three. */
export function formatCount(n: number): string {
  return Math.round(n)
    .toString()
    .replace(/\B(?=(\d{3})+$)/g, '\u202f');
}

/** "1 file", "3 files", with grouped digits. */
export function countOf(n: number, one: string, many = `${one}s`): string {
  return `${formatCount(n)} ${n === 1 ? one : many}`;
}

const list = new Intl.ListFormat('en-GB');

/** "a", "a and b", "a, b and c"; '' for none. */
export function formatList(words: readonly string[]): string {
  return list.format(words);
}

/**
 * The first of some words, and how many there are besides: "a, b and 3 more".
 * @param all how many there are, where not all of them are named here
 */
export function formatFirst(words: readonly string[], most: number, all = words.length, between = ', '): string {
  const told = words.slice(0, most);
  const rest = all - told.length;
  return told.join(between) + (rest > 0 ? ` and ${formatCount(rest)} more` : '');
}

/** Length of time in at most two units: 4.2 s, 3 min 20 s, 2 h 5 min, 3 days. */
export function formatDuration(ms: number): string {
  if (!Number.isFinite(ms)) return '–';
  const s = ms / 1000;
  if (s < 0.95) return `${Math.max(0, Math.round(ms))} ms`;
  if (s < 59.5) return s < 9.95 ? `${s.toFixed(1)} s` : `${Math.round(s)} s`;
  const total = Math.round(s);
  if (total < 3600) return two(Math.floor(total / 60), 'min', total % 60, 's');
  const minutes = Math.round(s / 60);
  if (minutes < 48 * 60) return two(Math.floor(minutes / 60), 'h', minutes % 60, 'min');
  return `${Math.floor(minutes / 1440)} days`;
}

function two(a: number, unitA: string, b: number, unitB: string): string {
  return b === 0 ? `${a} ${unitA}` : `${a} ${unitA} ${b} ${unitB}`;
}

/** Rate as size a second. */
export function formatRate(bytesPerSecond: number): string {
  return `${formatBytes(bytesPerSecond)}/s`;
}

/** Share as a percentage: 0.4 %, 61 %. */
export function formatShare(share: number): string {
  const p = share * 100;
  return `${p === 0 || p >= 9.95 ? Math.round(p) : p.toFixed(1)} %`;
}

/** "Sun 22 Nov 22:00"; the year is added when it differs from the year of `now`. */
export function formatMoment(instant: number, zone: string, now = instant): string {
  const t = DateTime.fromMillis(instant, { zone }).setLocale('en-GB');
  const year = t.year === DateTime.fromMillis(now, { zone }).year ? '' : ' yyyy';
  return t.toFormat(`ccc d LLL${year} HH:mm`);
}

/** Full moment with seconds and zone, for hovers and logs. */
export function formatExact(instant: number, zone: string): string {
  return DateTime.fromMillis(instant, { zone }).setLocale('en-GB').toFormat(`cccc d LLLL yyyy HH:mm:ss '${zone}'`);
}

/** Local date and time for the axis of a chart: 2026-11-22T22:00:00.000. */
export function localTime(instant: number, zone: string): string {
  return DateTime.fromMillis(instant, { zone }).toFormat("yyyy-MM-dd'T'HH:mm:ss.SSS");
}

/** Keeps both ends of a long name, so that the telling end stays. */
export function cutMiddle(text: string, most: number): string {
  if (text.length <= most) return text;
  const tail = Math.ceil((most - 1) * 0.6);
  return `${text.slice(0, most - 1 - tail)}…${text.slice(text.length - tail)}`;
}
