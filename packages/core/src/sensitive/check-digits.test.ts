import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { drawing, sensitiveCorpus } from '../../../../bench/trust/sensitive-corpus';
import { holdsAsAccount, holdsByLuhn, holdsInFinland, holdsInNorway, holdsInPoland, holdsInSpain, holdsInSweden } from './check-digits';

const bare = (text: string) => text.replace(/[ +-]/g, '');
const checks: Readonly<Record<string, { readonly holds: (text: string) => boolean; readonly of: (text: string) => string }>> = {
  card: { holds: holdsByLuhn, of: bare },
  account: { holds: holdsAsAccount, of: bare },
  identityNorway: { holds: holdsInNorway, of: bare },
  identitySweden: { holds: holdsInSweden, of: bare },
  identityFinland: { holds: holdsInFinland, of: (text) => text },
  identityPoland: { holds: holdsInPoland, of: bare },
  identitySpain: { holds: holdsInSpain, of: bare },
};
const planted = sensitiveCorpus(23, 700).planted.filter((p) => p.real);
const ofPattern = (pattern: string) => planted.filter((p) => p.pattern === pattern).map((p) => checks[pattern]!.of(p.text));

describe.each(Object.keys(checks))('the check of %s', (pattern) => {
  const { holds } = checks[pattern]!;
  const all = ofPattern(pattern);

  it('holds for what was made by the rule', () => {
    expect(all.length).toBeGreaterThan(50);
    expect(all.filter((text) => !holds(text))).toEqual([]);
  });

  it('does not hold where one digit is another one', () => {
    fc.assert(
      fc.property(fc.constantFrom(...all), fc.nat(), fc.integer({ min: 1, max: 9 }), (text, where, step) => {
        const digits = Array.from(text, (sign, i) => (/\d/.test(sign) ? i : -1)).filter((i) => i >= 0);
        const at = digits[where % digits.length]!;
        const other = String((Number(text[at]) + step) % 10);
        const spoilt = text.slice(0, at) + other + text.slice(at + 1);
        // modulo 23 and 31 tell any digit from another, modulo 10 as well; a day that is not there does not hold either
        expect(holds(spoilt)).toBe(false);
      }),
      { numRuns: 200 },
    );
  });
});

describe('what is drawn', () => {
  it('is the same for the same seed', () => {
    const [one, two] = [drawing(7), drawing(7)];
    expect(Array.from({ length: 5 }, one)).toEqual(Array.from({ length: 5 }, two));
    expect(sensitiveCorpus(7, 20)).toEqual(sensitiveCorpus(7, 20));
  });
});
