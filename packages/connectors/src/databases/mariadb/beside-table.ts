import type { DatabaseServer, RowsCompared } from '@lithodex/kinds';
import { SourceError } from '../../source-error';
import type { TablePair } from '../family';
import { comparedOf, comparisonQuestions, type RowDialect } from '../row-comparison';
import { temporaryName } from '../temporary-name';
import { quoted, withMariadb, type MariadbConnection } from './connection';
import { orphansOf } from './foreign-keys';

/** Longest time a question may take, seconds: nobody waits longer. */
const mostSeconds = 50;
const shown = 200;

const dialect: RowDialect = {
  quoted,
  // not as its letters are ordered: case counts
  same: (a, b) => `BINARY ${a} <=> BINARY ${b}`,
  text: (column) => `LEFT(CAST(${column} AS CHAR CHARACTER SET utf8mb4), ${shown})`,
};

export async function columnsOf(c: MariadbConnection, { database }: { readonly database: string }, table: string): Promise<string[]> {
  const rows = await c.rows<{ name: string }>(
    'SELECT column_name AS name FROM information_schema.columns WHERE table_schema = ? AND table_name = ? ORDER BY ordinal_position',
    [database, table],
  );
  if (rows.length === 0) throw new SourceError('TABLE_GONE', `${database}.${table}`);
  return rows.map((r) => r.name);
}

/** Columns of the primary key. */
export async function keyOf(c: MariadbConnection, { database }: { readonly database: string }, table: string): Promise<string[]> {
  const rows = await c.rows<{ name: string }>(
    "SELECT column_name AS name FROM information_schema.key_column_usage WHERE table_schema = ? AND table_name = ? AND constraint_name = 'PRIMARY' ORDER BY ordinal_position",
    [database, table],
  );
  return rows.map((r) => r.name);
}

/** How two tables differ. Throws SourceError. */
export function compareRows(server: DatabaseServer, pair: TablePair, limit: number): Promise<RowsCompared> {
  return withMariadb(server, async (c) => {
    const { now, then } = pair;
    await c.run(`SET SESSION max_statement_time = ${mostSeconds}`);
    const [own, other] = [await columnsOf(c, pair, now), await columnsOf(c, pair, then)];
    const key = await keyOf(c, pair, then);
    const at = (name: string) => `${quoted(pair.database)}.${quoted(name)}`;
    const tables = { now: at(now), then: at(then), columns: own.filter((n) => other.includes(n)), key };
    const questions = comparisonQuestions(tables, dialect, limit);
    await c.run('START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY');
    const counts = await c.row<Record<string, string | number>>(questions.counts);
    return comparedOf(tables, counts!, await c.rows<Record<string, string | null>>(questions.rows));
  });
}

/** Gives each of the two the place of the other, at one instant. Throws SourceError, SWAP_REFUSED where that would lose something. */
export function swapTables(server: DatabaseServer, pair: TablePair): Promise<string[]> {
  return withMariadb(server, async (c) => {
    const { now, then } = pair;
    for (const name of [now, then]) await columnsOf(c, pair, name);
    const triggers = await c.rows<{ name: string }>(
      'SELECT trigger_name AS name FROM information_schema.triggers WHERE event_object_schema = ? AND event_object_table IN (?, ?)',
      [pair.database, now, then],
    );
    if (triggers.length)
      throw new SourceError('SWAP_REFUSED', `the trigger ${triggers.map((t) => t.name).join(', ')} would stay with the rows of now`);
    const at = (name: string) => `${quoted(pair.database)}.${quoted(name)}`;
    const between = at(`${temporaryName}swap`);
    // keys of others hold for the name, whichever rows stand under it
    await c.run('SET FOREIGN_KEY_CHECKS = 0');
    await c.run(`RENAME TABLE ${at(now)} TO ${between}, ${at(then)} TO ${at(now)}, ${between} TO ${at(then)}`);
    return (await orphansOf(c, pair.database, now)).map(({ key, rows }) => `${rows} rows of it refer to rows that are not there (${key})`);
  });
}
