/**
 * The folded axis: recent hours are stretched, old years folded together. Position 0 is now, 1 is `longest` ms ago:
 * position = log2(1 + age / 4 h) / log2(1 + longest / 4 h).
 */
const unit = 4 * 3_600_000;

/** Position 0–1 of an age (ms, clamped to 0…longest). */
export function foldAge(age: number, longest: number): number {
  return Math.log2(1 + Math.min(Math.max(age, 0), longest) / unit) / Math.log2(1 + longest / unit);
}

/** Age (ms) at a position 0–1; the inverse of {@link foldAge}. */
export function unfoldAge(position: number, longest: number): number {
  return (2 ** (position * Math.log2(1 + longest / unit)) - 1) * unit;
}

const hour = 3_600_000;
const marks: readonly (readonly [number, string])[] = [
  [0, 'now'],
  [6 * hour, '6 h'],
  [24 * hour, '1 day'],
  [72 * hour, '3 days'],
  [168 * hour, '1 week'],
  [14 * 24 * hour, '2 weeks'],
  [30 * 24 * hour, '1 month'],
  [91 * 24 * hour, '3 months'],
  [365 * 24 * hour, '1 year'],
  [1095 * 24 * hour, '3 years'],
];

/** Labelled ages for an axis of this length. */
export function axisMarks(longest: number): { age: number; label: string }[] {
  return marks.filter(([age]) => age <= longest).map(([age, label]) => ({ age, label }));
}

/** Thickness 0–1 of a bed where neighbouring points are `gap` ms apart: full at 4 hours and less, thin at months. */
export function bedThickness(gap: number): number {
  return Math.max(0.1, Math.min(1, 1 - 0.1 * Math.log2(Math.max(1, gap / unit))));
}
