import type { DatabaseServer } from '@lithodex/kinds';
import type { RowsRead, RowsWanted, TableName, TableSize } from '../family';
import { keyOf, tableAt } from './beside-table';
import { firstValue, onlyOne } from '../first-value';
import { commonDatabase, withPg } from './connection';
import { partsOf, qualified, quoted } from './dump-text';
import { columnsOf, sqlName } from './replace-table';

/** Longest time a question may take. */
const mostMs = 20_000;
const shown = 200;

/** Tables of all databases. Throws SourceError. */
export async function tables(server: DatabaseServer): Promise<TableSize[]> {
  const databases = await withPg(server, commonDatabase, (c) =>
    c.rows<{ name: string }>('SELECT datname AS name FROM pg_database WHERE NOT datistemplate AND datallowconn ORDER BY 1'),
  );
  const all: TableSize[] = [];
  for (const { name: database } of databases)
    all.push(
      ...(await withPg(server, database, async (c) => {
        const rows = await c.rows<{ schema: string; name: string; n: string; bytes: string }>(
          `SELECT n.nspname AS schema, t.relname AS name, GREATEST(t.reltuples, 0)::bigint AS n, pg_total_relation_size(t.oid) AS bytes
           FROM pg_class t JOIN pg_namespace n ON n.oid = t.relnamespace
           WHERE t.relkind IN ('r', 'p') AND n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname NOT LIKE 'pg\\_t%' ORDER BY 1, 2`,
        );
        return rows.map((r) => ({ database, table: qualified(r.schema, r.name), rows: Number(r.n), bytes: Number(r.bytes) }));
      })),
    );
  return all;
}

/** Rows of a table in the order of its key, read only. Throws SourceError. */
export function rowsOf(server: DatabaseServer, of: TableName, { holds, offset, limit }: RowsWanted): Promise<RowsRead> {
  return withPg(server, of.database, async (c) => {
    const table = await tableAt(c, of.table);
    const columns = (await columnsOf(c, table)).map((column) => column.name);
    const key = await keyOf(c, table);
    await c.run(`SET statement_timeout = ${mostMs}; SET default_transaction_read_only = on`);
    const wanted = holds && columns.includes(holds.column) ? holds : undefined;
    const where = wanted ? `WHERE strpos(${quoted(wanted.column)}::text, $1) > 0` : '';
    const order = key.length ? `ORDER BY ${key.map(quoted).join(', ')}` : '';
    const rows = await c.rows<Record<string, string | null>>(
      `SELECT ${columns.map((name, i) => `left(${quoted(name)}::text, ${shown}) AS c${i}`).join(', ')} FROM ${sqlName(table)} ${where} ${order} LIMIT ${limit + 1} OFFSET ${offset}`,
      wanted ? [wanted.text] : [],
    );
    return { columns, key, rows: rows.slice(0, limit).map((r) => columns.map((_, i) => r[`c${i}`] ?? null)), more: rows.length > limit };
  });
}

/** Name of a table beside another, in the same schema. */
export function besides(table: string, suffix: string): string {
  const at = partsOf(table);
  return at ? qualified(at.schema, `${at.name}${suffix}`) : `${table}${suffix}`;
}

/** Drops a table of a scratch server, where it is there. Throws SourceError. */
export function dropTable(scratch: DatabaseServer, { database, table }: TableName): Promise<void> {
  return withPg(scratch, database, async (c) => {
    const at = partsOf(table);
    if (at) await c.run(`DROP TABLE IF EXISTS ${sqlName(at)} CASCADE`);
  });
}

const asker = 'asker';

/** The first value that a question gives, as an account that may only read. Throws SourceError. */
export async function ask(scratch: DatabaseServer, database: string, sql: string): Promise<string | null> {
  await withPg(scratch, commonDatabase, async (c) => {
    if (!(await c.row('SELECT 1 FROM pg_roles WHERE rolname = $1', [asker])))
      await c.run(`CREATE ROLE ${asker} LOGIN NOSUPERUSER; GRANT pg_read_all_data TO ${asker}`);
    await c.run(`GRANT CONNECT ON DATABASE ${quoted(database)} TO ${asker}`);
  });
  return withPg({ ...scratch, account: asker }, database, async (c) => {
    await c.run(`SET statement_timeout = ${mostMs}; SET default_transaction_read_only = on`);
    return firstValue(await c.rows<Record<string, unknown>>(onlyOne(sql)));
  });
}
