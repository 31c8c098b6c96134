import type { RowsCompared } from '@lithodex/kinds';
import { SourceError } from '../source-error';

/** How a family writes what is asked. */
export interface RowDialect {
  readonly quoted: (name: string) => string;
  /** Whether two values are the same to the last byte; nothing is the same as nothing. */
  readonly same: (a: string, b: string) => string;
  /** The beginning of a value as text. */
  readonly text: (column: string) => string;
}

/** Two tables of the same server. */
export interface ComparedTables {
  /** Quoted, as statements name them. */
  readonly now: string;
  readonly then: string;
  /** Columns that both have, and those by which rows are told apart. */
  readonly columns: readonly string[];
  readonly key: readonly string[];
}

export interface ComparisonQuestions {
  readonly counts: string;
  readonly rows: string;
}

type Change = RowsCompared['rows'][number]['change'];
const columnOf = (side: 'n' | 't', i: number) => `${side}${i}`;

/** The questions that compare two tables row by row; of each kind of difference `limit` rows are shown. Throws NO_KEY. */
export function comparisonQuestions({ now, then, columns, key }: ComparedTables, dialect: RowDialect, limit: number): ComparisonQuestions {
  if (key.length === 0 || !key.every((k) => columns.includes(k))) throw new SourceError('NO_KEY');
  const { quoted, same, text } = dialect;
  const of = (side: 'n' | 't', name: string) => `${side}.${quoted(name)}`;
  const alike = key.map((k) => `${of('n', k)} = ${of('t', k)}`).join(' AND ');
  const all = columns.map((c) => same(of('n', c), of('t', c))).join(' AND ');
  const added = `${now} n WHERE NOT EXISTS (SELECT 1 FROM ${then} t WHERE ${alike})`;
  const gone = `${then} t WHERE NOT EXISTS (SELECT 1 FROM ${now} n WHERE ${alike})`;
  const changed = `${now} n JOIN ${then} t ON ${alike} WHERE NOT (${all})`;
  const values = (side: 'n' | 't', there: boolean) =>
    columns.map((c, i) => `${there ? text(of(side, c)) : 'NULL'} AS ${columnOf(side, i)}`).join(', ');
  const some = (change: Change, from: string, order: 'n' | 't') =>
    `(SELECT '${change}' AS difference, ${values('n', change !== 'gone')}, ${values('t', change !== 'added')} FROM ${from} ORDER BY ${key.map((k) => of(order, k)).join(', ')} LIMIT ${limit})`;
  const count = (name: string, from: string) => `(SELECT COUNT(*) FROM ${from}) AS ${name}`;
  return {
    counts: `SELECT ${count('rows_now', `${now} n`)}, ${count('rows_then', `${then} t`)}, ${count('added', added)}, ${count('gone', gone)}, ${count('changed', changed)}`,
    rows: [some('gone', gone, 't'), some('changed', changed, 'n'), some('added', added, 'n')].join(' UNION ALL '),
  };
}

/** What the answers say. */
export function comparedOf(
  { columns, key }: Pick<ComparedTables, 'columns' | 'key'>,
  counts: Readonly<Record<string, string | number>>,
  rows: readonly Readonly<Record<string, string | null>>[],
): RowsCompared {
  const valuesOf = (row: Readonly<Record<string, string | null>>, side: 'n' | 't') => columns.map((_, i) => row[columnOf(side, i)] ?? null);
  return {
    columns: [...columns],
    key: [...key],
    counts: {
      now: Number(counts['rows_now']),
      then: Number(counts['rows_then']),
      added: Number(counts['added']),
      changed: Number(counts['changed']),
      gone: Number(counts['gone']),
    },
    rows: rows.map((row) => {
      const change = row['difference'] as Change;
      return { change, now: change === 'gone' ? null : valuesOf(row, 'n'), then: change === 'added' ? null : valuesOf(row, 't') };
    }),
  };
}
