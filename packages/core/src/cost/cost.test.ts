import { describe, expect, it } from 'vitest';
import { coursePrice, earlyRemovalPrice, formatPrice, monthlyPrice, readPrice, writePrice } from './cost';

const prices = { currency: 'EUR', perGbMonth: 0.01, perGbRead: 0.02, perThousandRequests: 0.005, leastDays: 90 };

describe('prices', () => {
  it('follow the table', () => {
    expect(monthlyPrice(500e9, prices)).toBeCloseTo(5, 9);
    expect(readPrice(100e9, 3000, prices)).toBeCloseTo(2.015, 9);
    expect(writePrice(64 << 20, prices)).toBeCloseTo(0.00001, 12);
    expect(coursePrice(new Float64Array(365).fill(1e12), prices)).toBeCloseTo((10 * 365) / (365.25 / 12), 6);
  });

  it('count what is removed too early as if it had stayed', () => {
    expect(earlyRemovalPrice(1e12, 90, prices)).toBe(0);
    expect(earlyRemovalPrice(1e12, 200, prices)).toBe(0);
    expect(earlyRemovalPrice(1e12, 0, prices)).toBeCloseTo((10 * 90) / (365.25 / 12), 6);
    expect(earlyRemovalPrice(1e12, 60, { ...prices, leastDays: 0 })).toBe(0);
  });

  it.each([
    [0, 'EUR 0'],
    [1234.4, 'EUR 1234'],
    [12.4, 'EUR 12.40'],
    [0.0412, 'EUR 0.0412'],
    [0.00004, 'EUR 0.000040'],
  ])('%d reads %s', (amount, text) => {
    expect(formatPrice(amount, 'EUR')).toBe(text);
  });
});
