import { describe, expect, it } from 'vitest';
import { comparedOf, comparisonQuestions, type RowDialect } from './row-comparison';

const dialect: RowDialect = { quoted: (n) => `[${n}]`, same: (a, b) => `${a} IS ${b}`, text: (c) => `text(${c})` };
const tables = { now: 'tariff', then: 'tariff_x', columns: ['id', 'cents'], key: ['id'] };

describe('questions that compare two tables', () => {
  it('tell rows apart by the key and compare every column', () => {
    const { counts, rows } = comparisonQuestions(tables, dialect, 5);
    expect(counts).toContain('(SELECT COUNT(*) FROM tariff n WHERE NOT EXISTS (SELECT 1 FROM tariff_x t WHERE n.[id] = t.[id])) AS added');
    expect(rows).toContain('NOT (n.[id] IS t.[id] AND n.[cents] IS t.[cents])');
    expect(rows.match(/LIMIT 5/g)).toHaveLength(3);
  });

  it('are not asked where nothing tells rows apart', () => {
    expect(() => comparisonQuestions({ ...tables, key: [] }, dialect, 5)).toThrow('no key');
    expect(() => comparisonQuestions({ ...tables, key: ['other'] }, dialect, 5)).toThrow('no key');
  });
});

describe('what they answer', () => {
  it('has values on the sides where a row is', () => {
    const counts = { rows_now: '3', rows_then: 4, added: 1, gone: 2, changed: 1 };
    const rows = [
      { difference: 'gone', n0: null, n1: null, t0: '1', t1: null },
      { difference: 'changed', n0: '2', n1: '7', t0: '2', t1: '8' },
    ];
    expect(comparedOf(tables, counts, rows)).toEqual({
      columns: ['id', 'cents'],
      key: ['id'],
      counts: { now: 3, then: 4, added: 1, changed: 1, gone: 2 },
      rows: [
        { change: 'gone', now: null, then: ['1', null] },
        { change: 'changed', now: ['2', '7'], then: ['2', '8'] },
      ],
    });
  });
});
