import { nearby, type SensitivePattern } from './books';

/** How often one pattern stands in a text. */
export interface SensitiveCount {
  readonly pattern: string;
  readonly count: number;
  /** The first of them, with most of it covered. */
  readonly sample: string;
}

/** What is counted of one pattern in one text at most. */
export const mostCounted = 1_000_000;
const shownEnd = 3;
/** Characters before its mark at which one can begin at most. */
const beforeMark = 80;

/** A finding with all covered but its end: nobody can use it, whoever wrote it knows it again. */
export function covered(text: string): string {
  const end = text.slice(-shownEnd);
  return `${'•'.repeat(Math.max(3, Math.min(24, text.length - shownEnd)))}${end}`;
}

/** What stands in a text by each pattern, those that are there. */
export function findSensitive(text: string, patterns: readonly SensitivePattern[]): SensitiveCount[] {
  return patterns.flatMap((pattern) => {
    let count = 0;
    let sample = '';
    for (const at of placesOf(text, pattern)) {
      if (!count++) sample = covered(text.slice(at.from, at.to));
      if (count >= mostCounted) break;
    }
    return count ? [{ pattern: pattern.id, count, sample }] : [];
  });
}

/** Where findings of a pattern stand. */
export function* placesOf(text: string, pattern: SensitivePattern): Generator<{ readonly from: number; readonly to: number }> {
  const { form, without, holds, near, mark } = pattern;
  const toMark = (from: number): number => {
    const at = mark === undefined ? from : text.indexOf(mark, from);
    return at < 0 ? text.length : Math.max(from, at - beforeMark);
  };
  form.lastIndex = toMark(0);
  for (let match = form.exec(text); match; match = form.exec(text)) {
    const [found] = match;
    const bare = without ? found.replace(without, '') : found;
    const from = match.index;
    const to = from + found.length;
    // what fails may hide one that begins within it
    if (holds && !holds(bare)) form.lastIndex = from + 1;
    else if (!near || near.test(text.slice(Math.max(0, from - nearby), to + nearby))) yield { from, to };
    if (mark !== undefined) form.lastIndex = toMark(to);
  }
  form.lastIndex = 0;
}
