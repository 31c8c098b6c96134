/** What a target costs, in one currency. */
export interface PriceTable {
  /** Like EUR. */
  readonly currency: string;
  /** For a GB (10⁹ bytes) kept for a month. */
  readonly perGbMonth: number;
  /** For a GB read back. */
  readonly perGbRead: number;
  /** For a thousand requests. */
  readonly perThousandRequests: number;
  /** What is removed sooner is paid for as if it had stayed for so many days. */
  readonly leastDays: number;
}

const gb = 1e9;
/** Days of a month where prices are per month. */
const monthDays = 365.25 / 12;
/** Bytes of a pack, which is written and read at once. */
const packBytes = 32 << 20;

/** Price of keeping bytes for a month. */
export function monthlyPrice(bytes: number, p: PriceTable): number {
  return (bytes / gb) * p.perGbMonth;
}

/** Price of writing bytes: the requests. */
export function writePrice(bytes: number, p: PriceTable): number {
  return (Math.ceil(bytes / packBytes) / 1000) * p.perThousandRequests;
}

/** Price of reading bytes back in `requests` requests. */
export function readPrice(bytes: number, requests: number, p: PriceTable): number {
  return (bytes / gb) * p.perGbRead + (requests / 1000) * p.perThousandRequests;
}

/** What removing bytes after `days` still costs: the rest of the least time they are paid for. */
export function earlyRemovalPrice(bytes: number, days: number, p: PriceTable): number {
  return (monthlyPrice(bytes, p) * Math.max(0, p.leastDays - days)) / monthDays;
}

/** Price of a course of bytes, a value a day: what it costs over all days. */
export function coursePrice(bytes: Iterable<number>, p: PriceTable): number {
  let sum = 0;
  for (const day of bytes) sum += day;
  return monthlyPrice(sum, p) / monthDays;
}

/** An amount with its currency: EUR 12.40, EUR 0.004. */
export function formatPrice(amount: number, currency: string): string {
  const digits = amount === 0 || amount >= 100 ? 0 : amount >= 0.1 ? 2 : amount >= 0.001 ? 4 : 6;
  return `${currency} ${amount.toFixed(digits)}`;
}
