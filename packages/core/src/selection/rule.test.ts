import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  asksFor,
  parseRule,
  ruleCompletions,
  RuleError,
  ruleFields,
  ruleMatcher,
  ruleText,
  type Rule,
  type RuleField,
  type SelectionFacts,
} from './rule';

const text = fc.oneof(
  fc.constantFrom('gates', 'room: north', 'and', 'not', 'a"b', 'a\\', '', 'GATES', 'x*', '?', '(', 'ø'),
  fc.string({ maxLength: 8 }),
);
const rules: fc.Arbitrary<Rule> = fc.letrec<{ rule: Rule }>((tie) => ({
  rule: fc.oneof(
    { maxDepth: 4, withCrossShrink: true },
    fc.record({ is: fc.constantFrom(...ruleFields), like: text }),
    fc.record({ not: tie('rule') }),
    fc.record({ all: fc.array(tie('rule'), { minLength: 2, maxLength: 3 }) }),
    fc.record({ any: fc.array(tie('rule'), { minLength: 2, maxLength: 3 }) }),
  ),
})).rule;
const values = fc.array(text, { maxLength: 3 });
const facts: fc.Arbitrary<SelectionFacts> = fc.record(
  Object.fromEntries(ruleFields.map((f) => [f, values])) as Record<RuleField, typeof values>,
);
const fits = (rule: Rule, of: SelectionFacts) => ruleMatcher(rule)(of) !== undefined;
const quay: SelectionFacts = {
  name: ['quay-1'],
  kind: ['machine'],
  source: ['quay-1'],
  location: ['Harbour office'],
  folder: ['/srv'],
  tag: ['room: north', 'gates'],
  cluster: ['office'],
  host: ['mole-1'],
  storage: ['fast', 'slow'],
  network: [],
};

describe('a rule', () => {
  it('is read back from its words', () => {
    fc.assert(
      fc.property(rules, (rule) => {
        expect(parseRule(ruleText(rule))).toEqual(rule);
      }),
    );
  });

  it('obeys the laws of and, or and not', () => {
    fc.assert(
      fc.property(rules, rules, facts, (a, b, of) => {
        expect(fits({ not: a }, of)).toBe(!fits(a, of));
        expect(fits({ all: [a, b] }, of)).toBe(fits(a, of) && fits(b, of));
        expect(fits({ any: [a, b] }, of)).toBe(fits(a, of) || fits(b, of));
        expect(fits({ not: { any: [a, b] } }, of)).toBe(fits({ all: [{ not: a }, { not: b }] }, of));
      }),
    );
  });

  it('says which of its conditions made a workload fit, and they do', () => {
    fc.assert(
      fc.property(rules, facts, (rule, of) => {
        for (const why of ruleMatcher(rule)(of) ?? []) expect(fits(parseRule(why), of)).toBe(true);
      }),
    );
  });

  it.each([
    ['tag gates', true],
    ['TAG GATES', true],
    ['tag "room: *"', true],
    ['tag room', false],
    ['name quay-?', true],
    ['name quay-1 and not tag gates', false],
    ['name x or tag gates and location harbour*', true],
    ['(name x or tag gates) and location lighthouse*', false],
    ['not not source "quay-1"', true],
    ['folder /srv', true],
    ['name "q.ay-1"', false],
    ['storage slow and host mole-*', true],
    ['network *', false],
    ['kind template', false],
  ])('%s fits: %s', (rule, wanted) => {
    expect(fits(parseRule(rule), quay)).toBe(wanted);
  });

  it('says which fields it asks for', () => {
    const rule = parseRule('tag gates and not (host mole-1 or name x)');
    expect([asksFor(rule, ['host']), asksFor(rule, ['storage', 'cluster'])]).toEqual([true, false]);
  });

  it('takes no time over patterns with many stars', () => {
    const folder = 'a'.repeat(4000);
    expect(fits({ is: 'folder', like: `${'*a'.repeat(400)}b` }, { ...quay, folder: [folder] })).toBe(false);
    expect(fits({ is: 'folder', like: `${'*a'.repeat(400)}*` }, { ...quay, folder: [folder] })).toBe(true);
  });

  it.each([
    ['', 0, 'Here a condition is missing'],
    ['tag', 3, 'After tag comes a pattern'],
    ['tag gates and', 13, 'Here a condition is missing'],
    ['tag gates name x', 10, 'Before name stands no "and" or "or"'],
    ['colour red', 0, 'Instead of colour'],
    ['(tag gates', 10, 'A closing bracket is missing'],
    ['tag "gates', 4, 'The quotation mark is not closed'],
    ['not '.repeat(60), 200, 'too deep'],
  ])('%j is refused at %i: %s', (rule, at, why) => {
    const read = () => parseRule(rule);
    expect(read).toThrow(why);
    try {
      read();
    } catch (error) {
      expect((error as RuleError).at).toBe(at);
    }
  });

  it('refuses or reads any text, and never fails otherwise', () => {
    fc.assert(
      fc.property(
        fc.oneof(
          fc.string(),
          fc.array(fc.constantFrom('tag', 'not', 'and', '(', ')', '"', 'x', '*'), { maxLength: 12 }).map((w) => w.join(' ')),
        ),
        (any) => {
          try {
            parseRule(any);
          } catch (error) {
            expect(error).toBeInstanceOf(RuleError);
          }
        },
      ),
    );
  });
});

describe('completion', () => {
  const known = { tag: ['gates', 'room: north', 'room: south'], source: ['quay-1'] };
  it.each([
    ['', ['not ', ...ruleFields.map((f) => `${f} `)]],
    ['t', ['tag ']],
    ['tag ', ['tag gates ', 'tag "room: north" ', 'tag "room: south" ']],
    ['tag "room: s', ['tag "room: south" ']],
    ['tag south', ['tag "room: south" ']],
    ['tag gates ', ['tag gates and ', 'tag gates or ']],
    ['tag "room: north" a', ['tag "room: north" and ']],
    ['tag gates and not ', ['not', ...ruleFields].map((w) => `tag gates and not ${w} `)],
    ['name x or source q', ['name x or source quay-1 ']],
  ])('of %j offers %j', (typed, wanted) => {
    expect(ruleCompletions(typed, known)).toEqual(wanted);
  });
});
