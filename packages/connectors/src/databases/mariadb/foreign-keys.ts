import { quoted, type MariadbConnection } from './connection';
import type { SplitTable } from './statements';

const nameOfKey = /^CONSTRAINT\s+`((?:[^`]|``)+)`\s+/i;

export interface PlannedKeys {
  /** Made with the table, under its temporary name. */
  readonly inside: readonly string[];
  /** Added when it is in its place. */
  readonly after: readonly string[];
  /** Some get another name than they had. */
  readonly renamed: boolean;
}

/**
 * When the keys of a table to others are made. Names of keys hold for a whole database, so what replaces a table gets its keys when that is gone; a key over a column that others are
 * computed from can't be added later, so it is made at once, under another name.
 */
export async function planKeys(
  c: MariadbConnection,
  database: string,
  { keys, computes }: Pick<SplitTable, 'keys' | 'computes'>,
  replaces: boolean,
): Promise<PlannedKeys> {
  if (replaces && !computes) return { inside: [], after: keys, renamed: false };
  const rows = await c.rows<{ name: string }>(
    "SELECT constraint_name AS name FROM information_schema.table_constraints WHERE constraint_schema = ? AND constraint_type = 'FOREIGN KEY'",
    [database],
  );
  const taken = new Set(rows.map((r) => r.name.toLowerCase()));
  const isTaken = (key: string) => taken.has((nameOfKey.exec(key)?.[1] ?? '').replaceAll('``', '`').toLowerCase());
  return { inside: keys.map((key) => (isTaken(key) ? key.replace(nameOfKey, '') : key)), after: [], renamed: keys.some(isTaken) };
}

interface Column {
  readonly key: string;
  readonly own: string;
  readonly database: string;
  readonly table: string;
  readonly other: string;
}

/** Keys of a table to others that point at rows which are not there, with how many do. */
export async function orphansOf(c: MariadbConnection, database: string, table: string): Promise<{ key: string; rows: number }[]> {
  const columns = await c.rows<Column>(
    'SELECT constraint_name AS `key`, column_name AS own, referenced_table_schema AS `database`, referenced_table_name AS `table`, referenced_column_name AS other FROM information_schema.key_column_usage WHERE table_schema = ? AND table_name = ? AND referenced_table_name IS NOT NULL ORDER BY constraint_name, ordinal_position',
    [database, table],
  );
  const keys = new Map<string, Column[]>();
  for (const column of columns) keys.set(column.key, [...(keys.get(column.key) ?? []), column]);
  const found: { key: string; rows: number }[] = [];
  for (const [key, parts] of keys) {
    const { database: there, table: other } = parts[0]!;
    const exists = await c.row('SELECT 1 FROM information_schema.tables WHERE table_schema = ? AND table_name = ?', [there, other]);
    const given = parts.map((p) => `a.${quoted(p.own)} IS NOT NULL`).join(' AND ');
    const same = parts.map((p) => `a.${quoted(p.own)} = b.${quoted(p.other)}`).join(' AND ');
    const missing = exists ? ` AND NOT EXISTS (SELECT 1 FROM ${quoted(there)}.${quoted(other)} b WHERE ${same})` : '';
    const row = await c.row<{ n: number | string }>(
      `SELECT COUNT(*) AS n FROM ${quoted(database)}.${quoted(table)} a WHERE ${given}${missing}`,
    );
    const rows = Number(row!.n);
    if (rows > 0) found.push({ key, rows });
  }
  return found;
}
