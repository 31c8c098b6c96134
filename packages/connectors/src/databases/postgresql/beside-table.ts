import type { DatabaseServer, RowsCompared } from '@lithodex/kinds';
import { SourceError } from '../../source-error';
import type { TablePair } from '../family';
import { comparedOf, comparisonQuestions, type RowDialect } from '../row-comparison';
import { temporaryName } from '../temporary-name';
import { StatementFailed, withPg, type PgConnection } from './connection';
import { partsOf, quoted } from './dump-text';
import { columnsOf, exists, replaceRows, sqlName, type TableName } from './replace-table';
import { EntryRunner } from './run-entries';

/** Longest time a question may take: nobody waits longer. */
const mostMs = 50_000;
const shown = 200;

const dialect: RowDialect = {
  quoted,
  same: (a, b) => `${a}::text IS NOT DISTINCT FROM ${b}::text`,
  text: (column) => `left(${column}::text, ${shown})`,
};

/** A table by its name with its schema. Throws TABLE_GONE. */
export async function tableAt(c: PgConnection, text: string): Promise<TableName> {
  const table = partsOf(text);
  if (!table || !(await exists(c, table))) throw new SourceError('TABLE_GONE', text);
  return table;
}

const tablesOf = async (c: PgConnection, { now, then }: TablePair) => ({ now: await tableAt(c, now), then: await tableAt(c, then) });

/** Columns of the primary key. */
export async function keyOf(c: PgConnection, table: TableName): Promise<string[]> {
  const rows = await c.rows<{ name: string }>(
    "SELECT a.attname AS name FROM pg_constraint k JOIN pg_attribute a ON a.attrelid = k.conrelid AND a.attnum = ANY (k.conkey) WHERE k.conrelid = $1::regclass AND k.contype = 'p' ORDER BY array_position(k.conkey, a.attnum)",
    [sqlName(table)],
  );
  return rows.map((r) => r.name);
}

/** How two tables differ. Throws SourceError. */
export function compareRows(server: DatabaseServer, pair: TablePair, limit: number): Promise<RowsCompared> {
  return withPg(server, pair.database, async (c) => {
    const { now, then } = await tablesOf(c, pair);
    await c.run(`SET statement_timeout = ${mostMs}`);
    await c.run('BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY');
    const [own, other] = [await columnsOf(c, now), await columnsOf(c, then)].map((columns) => columns.map((column) => column.name));
    const tables = {
      now: sqlName(now),
      then: sqlName(then),
      columns: own!.filter((n) => other!.includes(n)),
      key: await keyOf(c, then),
    };
    const questions = comparisonQuestions(tables, dialect, limit);
    const counts = await c.row<Record<string, string>>(questions.counts);
    return comparedOf(tables, counts!, await c.rows<Record<string, string | null>>(questions.rows));
  });
}

/** Gives each of the two the rows of the other, in one transaction: what depends on them stays. Throws SourceError, SWAP_REFUSED where that takes too long or can't be. */
export function swapTables(server: DatabaseServer, pair: TablePair): Promise<string[]> {
  return withPg(server, pair.database, async (c) => {
    const { now, then } = await tablesOf(c, pair);
    const form = async (t: TableName) => JSON.stringify(await columnsOf(c, t));
    if ((await form(now)) !== (await form(then))) throw new SourceError('SWAP_REFUSED', 'the two have not the same columns any more');
    await c.run(`BEGIN; SET LOCAL statement_timeout = ${mostMs}`);
    const runner = new EntryRunner(c, () => undefined, true);
    const copyOf = async (t: TableName, name: string): Promise<TableName> => {
      const copy = { schema: t.schema, name: `${temporaryName}${name}` };
      await c.run(`CREATE TABLE ${sqlName(copy)} AS TABLE ${sqlName(t)}`);
      return copy;
    };
    try {
      const [ofNow, ofThen] = [await copyOf(now, 'now'), await copyOf(then, 'then')];
      const said: string[] = [];
      await replaceRows(c, runner, now, ofThen, (message) => said.push(message));
      await replaceRows(c, runner, then, ofNow, () => undefined);
      await c.run('COMMIT');
      return said;
    } catch (error) {
      await c.run('ROLLBACK');
      if (error instanceof StatementFailed && error.sqlState === '57014')
        throw new SourceError('SWAP_REFUSED', `it takes longer than ${mostMs / 1000} s: restore the table in place instead`);
      throw error;
    }
  });
}
