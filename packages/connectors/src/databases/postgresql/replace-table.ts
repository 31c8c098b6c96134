import { SourceError } from '../../source-error';
import { StatementFailed, type PgConnection } from './connection';
import { quoted } from './dump-text';
import type { EntryRunner } from './run-entries';

/** A table in its schema. */
export interface TableName {
  readonly schema: string;
  readonly name: string;
}

export const sqlName = ({ schema, name }: TableName): string => `${quoted(schema)}.${quoted(name)}`;
const lockMs = 30_000;

export async function exists(c: PgConnection, table: TableName): Promise<boolean> {
  return (await c.row<{ id: string | null }>('SELECT to_regclass($1)::oid AS id', [sqlName(table)]))?.id !== null;
}

interface Column {
  readonly name: string;
  readonly type: string;
  readonly computed: boolean;
}

/** Columns in their order. */
export async function columnsOf(c: PgConnection, table: TableName): Promise<Column[]> {
  return c.rows<Column>(
    "SELECT attname AS name, format_type(atttypid, atttypmod) AS type, attgenerated <> '' AS computed FROM pg_attribute WHERE attrelid = $1::regclass AND attnum > 0 AND NOT attisdropped ORDER BY attnum",
    [sqlName(table)],
  );
}

interface Key {
  readonly table: string;
  readonly name: string;
  readonly definition: string;
}

/** Keys of the table to others and of others to it. */
const keysOf = (c: PgConnection, table: TableName) =>
  c.rows<Key>(
    "SELECT k.conrelid::regclass::text AS table, k.conname AS name, pg_get_constraintdef(k.oid) AS definition FROM pg_constraint k WHERE k.contype = 'f' AND k.conparentid = 0 AND (k.confrelid = $1::regclass OR k.conrelid = $1::regclass)",
    [sqlName(table)],
  );

interface Reaction {
  readonly what: string;
  readonly name: string;
  readonly state: string;
}

const stateWords: Readonly<Record<string, string>> = { O: 'ENABLE', R: 'ENABLE REPLICA', A: 'ENABLE ALWAYS' };

/** Locks a table against everybody, so that one instant is enough to put other rows into it. Throws SourceError when others keep it for long. */
async function lock(c: PgConnection, table: TableName): Promise<void> {
  await c.run(`SET LOCAL lock_timeout = ${lockMs}`);
  try {
    await c.run(`LOCK TABLE ${sqlName(table)} IN ACCESS EXCLUSIVE MODE`);
  } catch (error) {
    if (error instanceof StatementFailed && error.sqlState === '55P03')
      throw new SourceError('DATABASE_FAILED', `${table.schema}.${table.name} is in use by others for more than ${lockMs / 1000} s`);
    throw error;
  }
  await c.run('SET LOCAL lock_timeout = 0');
}

/**
 * Gives a table the rows of another one of the same columns: what depends on it stays, and nothing of its own reacts. Keys are made again; one that does not hold is said and holds for new
 * rows only. Throws SourceError.
 */
export async function replaceRows(c: PgConnection, runner: EntryRunner, table: TableName, from: TableName, note: (m: string) => void) {
  await lock(c, table);
  const keys = await keysOf(c, table);
  for (const k of keys) await c.run(`ALTER TABLE ${k.table} DROP CONSTRAINT ${quoted(k.name)}`);
  const own = [sqlName(table)];
  const reactions = await c.rows<Reaction>(
    `SELECT 'TRIGGER' AS what, tgname AS name, tgenabled AS state FROM pg_trigger WHERE tgrelid = $1::regclass AND NOT tgisinternal AND tgenabled <> 'D'
     UNION ALL SELECT 'RULE', rulename, ev_enabled FROM pg_rewrite WHERE ev_class = $1::regclass AND rulename <> '_RETURN' AND ev_enabled <> 'D'`,
    own,
  );
  for (const r of reactions) await c.run(`ALTER TABLE ${sqlName(table)} DISABLE ${r.what} ${quoted(r.name)}`);
  await c.run(`TRUNCATE ${sqlName(table)}`);
  const columns = (await columnsOf(c, table)).filter((column) => !column.computed).map((column) => quoted(column.name));
  if (columns.length)
    await c.run(
      `INSERT INTO ${sqlName(table)} (${columns.join(', ')}) OVERRIDING SYSTEM VALUE SELECT ${columns.join(', ')} FROM ${sqlName(from)}`,
    );
  for (const r of reactions) await c.run(`ALTER TABLE ${sqlName(table)} ${stateWords[r.state]!} ${r.what} ${quoted(r.name)}`);
  await c.run(`DROP TABLE ${sqlName(from)}`);
  await addKeys(c, runner, keys, note);
}

/** Takes a table away that is made anew in another form. Gives the keys of others to it. Throws EXISTS_THERE when views or others need it as it is. */
export async function removeTable(c: PgConnection, table: TableName): Promise<Key[]> {
  await lock(c, table);
  const all = await keysOf(c, table);
  const own = (await c.row<{ name: string }>('SELECT $1::regclass::text AS name', [sqlName(table)]))!.name;
  const others = all.filter((k) => k.table !== own);
  for (const k of others) await c.run(`ALTER TABLE ${k.table} DROP CONSTRAINT ${quoted(k.name)}`);
  try {
    await c.run(`DROP TABLE ${sqlName(table)}`);
  } catch (error) {
    if (error instanceof StatementFailed && error.sqlState === '2BP01')
      throw new SourceError(
        'EXISTS_THERE',
        `${table.schema}.${table.name} has other columns now, and others need it as it is: ${error.details}`,
      );
    throw error;
  }
  return others;
}

/** Makes keys again that were taken away. */
export async function addKeys(c: PgConnection, runner: EntryRunner, keys: readonly Key[], note: (m: string) => void): Promise<void> {
  for (const k of keys) {
    const made = `ALTER TABLE ${k.table} ADD CONSTRAINT ${quoted(k.name)} ${k.definition.replace(/ NOT VALID$/, '')}`;
    const refused = await runner.attempt(made);
    if (!refused) continue;
    note(`the key ${k.name} of ${k.table} does not hold for all rows, so it holds for new ones only: ${refused.details}`);
    const again = await runner.attempt(`${made} NOT VALID`);
    if (again) note(`the key ${k.name} of ${k.table} could not be made: ${again.details}`);
  }
}
