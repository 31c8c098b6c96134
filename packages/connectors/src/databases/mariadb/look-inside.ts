import { randomBytes } from 'node:crypto';
import type { DatabaseServer } from '@lithodex/kinds';
import type { RowsRead, RowsWanted, TableName, TableSize } from '../family';
import { columnsOf, keyOf } from './beside-table';
import { firstValue, onlyOne } from '../first-value';
import { quoted, quotedText, withMariadb } from './connection';
import { ownDatabases } from './contents';

/** Longest time a question may take, seconds. */
const mostSeconds = 20;
const shown = 200;

const textOf = (column: string) => `CAST(${quoted(column)} AS CHAR CHARACTER SET utf8mb4)`;
const at = ({ database, table }: TableName) => `${quoted(database)}.${quoted(table)}`;

/** Tables of all databases that are not the server's own. Throws SourceError. */
export function tables(server: DatabaseServer): Promise<TableSize[]> {
  return withMariadb(server, async (c) => {
    const rows = await c.rows<{ database: string; name: string; n: number | string | null; bytes: number | string | null }>(
      `SELECT table_schema AS \`database\`, table_name AS name, table_rows AS n, data_length + index_length AS bytes FROM information_schema.tables
       WHERE table_type = 'BASE TABLE' AND table_schema NOT IN (${ownDatabases.map(() => '?').join(', ')}) ORDER BY 1, 2`,
      ownDatabases,
    );
    return rows.map((r) => ({ database: r.database, table: r.name, rows: Number(r.n ?? 0), bytes: Number(r.bytes ?? 0) }));
  });
}

/** Rows of a table in the order of its key, read only. Throws SourceError. */
export function rowsOf(server: DatabaseServer, of: TableName, { holds, offset, limit }: RowsWanted): Promise<RowsRead> {
  return withMariadb(server, async (c) => {
    const [columns, key] = [await columnsOf(c, of, of.table), await keyOf(c, of, of.table)];
    await c.run(`SET SESSION max_statement_time = ${mostSeconds}`);
    await c.run('START TRANSACTION READ ONLY');
    const wanted = holds && columns.includes(holds.column) ? holds : undefined;
    const where = wanted ? `WHERE LOCATE(?, ${textOf(wanted.column)}) > 0` : '';
    const order = key.length ? `ORDER BY ${key.map(quoted).join(', ')}` : '';
    const rows = await c.rows<Record<string, string | null>>(
      `SELECT ${columns.map((name, i) => `LEFT(${textOf(name)}, ${shown}) AS c${i}`).join(', ')} FROM ${at(of)} ${where} ${order} LIMIT ${limit + 1} OFFSET ${offset}`,
      wanted ? [wanted.text] : [],
    );
    return { columns, key, rows: rows.slice(0, limit).map((r) => columns.map((_, i) => r[`c${i}`] ?? null)), more: rows.length > limit };
  });
}

/** Drops a table of a scratch server, where it is there. Throws SourceError. */
export function dropTable(scratch: DatabaseServer, table: TableName): Promise<void> {
  return withMariadb(scratch, async (c) => {
    await c.run('SET FOREIGN_KEY_CHECKS = 0');
    await c.run(`DROP TABLE IF EXISTS ${at(table)}`);
  });
}

const asker = 'asker';

/** The first value that a question gives, as an account that may only read that database. Throws SourceError. */
export async function ask(scratch: DatabaseServer, database: string, sql: string): Promise<string | null> {
  const password = randomBytes(24).toString('hex');
  await withMariadb(scratch, async (c) => {
    const who = `'${asker}'@'127.0.0.1'`;
    await c.run(`CREATE OR REPLACE USER ${who} IDENTIFIED BY ${quotedText(password)}`);
    await c.run(`GRANT SELECT, SHOW VIEW ON ${quoted(database).replace(/[_%]/g, '\\$&')}.* TO ${who}`);
  });
  return withMariadb({ ...scratch, account: asker, password }, async (c) => {
    await c.run(`SET SESSION max_statement_time = ${mostSeconds}`);
    await c.run(`USE ${quoted(database)}`);
    await c.run('START TRANSACTION READ ONLY');
    return firstValue(await c.rows<Record<string, unknown>>(onlyOne(sql)));
  });
}
