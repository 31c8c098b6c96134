import { describe, expect, it } from 'vitest';
import { firstValue, onlyOne } from './first-value';

describe('a question that gives one value', () => {
  it.each(['SELECT 1', 'SELECT 1;', ' SELECT 1 ; ; ', 'SELECT 1 -- of all', 'SELECT 1;\n'])('is one row of a subquery: %j', (sql) => {
    const asked = onlyOne(sql);
    expect(asked).toMatch(/^SELECT \* FROM \(SELECT 1[^;]*\n\) AS answer LIMIT 1$/);
    // a remark at its end does not swallow what follows
    expect(asked.split('\n').at(-1)).toBe(') AS answer LIMIT 1');
  });

  it('leaves what is inside as it is', () => {
    expect(onlyOne("SELECT ';' AS a; ")).toBe("SELECT * FROM (SELECT ';' AS a\n) AS answer LIMIT 1");
  });

  it.each([
    [[], null],
    [[{}], null],
    [[{ n: null }], null],
    [[{ n: 42 }], '42'],
    [[{ n: 0 }], '0'],
    [[{ n: 4812n, m: 1 }], '4812'],
    [[{ n: true }], 'true'],
    [[{ n: '' }], ''],
    [[{ n: new Date('2026-11-01T10:00:00Z') }], '2026-11-01T10:00:00.000Z'],
    [[{ n: Buffer.from([1, 255]) }], '01ff'],
    [[{ n: { a: 1 } }], '{"a":1}'],
    [[{ n: 'first' }, { n: 'second' }], 'first'],
  ] as const)('is shown as text, case %#', (rows, text) => {
    expect(firstValue(rows as readonly Record<string, unknown>[])).toBe(text);
  });
});
