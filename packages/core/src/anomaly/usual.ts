import { median } from '../forecast/forecast';

export interface UsualSample {
  /** Milliseconds since 1970. */
  readonly moment: number;
  readonly value: number;
}

/** What is usual of a number, robustly. All are 0 without samples. */
export interface Usual {
  readonly points: number;
  readonly middle: number;
  readonly mean: number;
  /** Robust standard deviation: 1.4826 times the median absolute deviation (Rousseeuw and Croux 1993). */
  readonly spread: number;
  /** What nine of ten stay below. */
  readonly high: number;
  /** The highest but one, so that a single night does not make all that follow usual; the highest where there are few. */
  readonly secondHighest: number;
  /** The highest on the same day of the week or of the month, where there were such. */
  readonly seasonHigh: number;
}

const day = 86_400_000;
const madToSigma = 1.4826;
/** Nights around the turn of a month that count as the same. */
const turnDays = 2;

const weekdayOf = (moment: number) => (Math.floor(moment / day) + 4) % 7;
/** Days from the nearest first of a month. */
function daysFromTurn(moment: number): number {
  const date = new Date(moment);
  const month = new Date(Date.UTC(date.getUTCFullYear(), date.getUTCMonth() + 1, 0)).getUTCDate();
  return Math.min(date.getUTCDate() - 1, month + 1 - date.getUTCDate());
}

/** What is usual at `moment`, by what was seen before it. */
export function usualOf(samples: readonly UsualSample[], moment: number): Usual {
  if (!samples.length) return { points: 0, middle: 0, mean: 0, spread: 0, high: 0, secondHighest: 0, seasonHigh: 0 };
  const values = samples.map((s) => s.value).sort((a, b) => a - b);
  const middle = median(values);
  const sameDay = samples.filter((s) => weekdayOf(s.moment) === weekdayOf(moment)).map((s) => s.value);
  const atTurn = daysFromTurn(moment) <= turnDays ? samples.filter((s) => daysFromTurn(s.moment) <= turnDays).map((s) => s.value) : [];
  return {
    points: values.length,
    middle,
    mean: values.reduce((sum, v) => sum + v, 0) / values.length,
    spread: madToSigma * median(values.map((v) => Math.abs(v - middle))),
    high: values[Math.min(values.length - 1, Math.floor(values.length * 0.9))]!,
    secondHighest: values.at(values.length >= 3 ? -2 : -1)!,
    seasonHigh: Math.max(sameDay.length >= 3 ? second(sameDay) : 0, ...atTurn),
  };
}

const second = (values: readonly number[]): number => [...values].sort((a, b) => b - a)[values.length > 3 ? 1 : 0]!;
