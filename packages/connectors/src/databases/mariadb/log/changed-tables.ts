import type { DatabasePoint, DatabaseServer } from '@lithodex/kinds';
import type { Stopped } from '../../family';
import { LogGap } from '../../log-point';
import { withMariadb, type MariadbConnection } from '../connection';
import { isFraming, readQuery } from './commits';
import { bodyOf, eventType, magic, type LogEvent } from './events';
import { fetchLog } from './fetch-log';
import { aboutAccounts } from './replay';
import { readTableMap, rowChangeOf } from './row-events';

type Position = NonNullable<DatabasePoint['position']>;

/** Statements that say themselves which tables they are about. */
const aboutTables = /^\s*(\/\*.*?\*\/\s*)*(ALTER|CREATE|DROP|RENAME|TRUNCATE|ANALYZE|OPTIMIZE|REPAIR|FLUSH)\b/is;
const aboutDatabases = /\b(DATABASE|SCHEMA)\b/i;

/** What changes nothing, or says what the rows after it change. */
const harmless: ReadonlySet<number> = new Set([
  eventType.stop,
  eventType.rotate,
  eventType.format,
  eventType.xid,
  eventType.annotate,
  eventType.checkpoint,
  eventType.gtid,
  eventType.gtidList,
]);

/** Whether a statement may name something: letters beyond ASCII stand there as whoever wrote it had them. */
function names(sql: string, name: string): boolean {
  const small = name.toLowerCase();
  return !/^[\x20-\x7e]*$/.test(small) || sql.includes(small.replaceAll('`', '``')) || sql.includes(small);
}

/** What a log says was changed: tables by their rows, and statements that name what they change. */
export class ChangedByLog {
  private readonly rows = new Set<string>();
  /** In small letters. */
  private readonly statements: string[] = [];
  private anything = false;

  take(event: LogEvent, checked: boolean): void {
    if (event.madeUp) return;
    if (event.type === eventType.tableMap) {
      const { table } = readTableMap(bodyOf(event, checked));
      this.rows.add(`${table.database}.${table.name}`);
    } else if (event.type === eventType.query) this.query(bodyOf(event, checked));
    else if (!harmless.has(event.type) && !rowChangeOf(event.type)) this.anything = true;
  }

  private query(body: Buffer): void {
    const { sql } = readQuery(body);
    if (isFraming(sql) || aboutAccounts.test(sql)) return;
    if (aboutTables.test(sql)) this.statements.push(sql.toLowerCase());
    // a change of rows that is logged as a statement may touch any table, by triggers and views
    else this.anything = true;
  }

  /** Whether a table may have been changed: whoever is named by a statement counts as changed. */
  has(database: string, table: string): boolean {
    if (this.anything || this.rows.has(`${database}.${table}`)) return true;
    return this.statements.some((sql) => names(sql, table) || (aboutDatabases.test(sql) && names(sql, database)));
  }
}

/** Tables whose rows change with those of others without being logged: by their keys. For each those that it follows. */
async function leadersOf(c: MariadbConnection): Promise<Map<string, string[]>> {
  const rows = await c.rows<{ from: string; to: string }>(
    `SELECT CONCAT(unique_constraint_schema, '.', referenced_table_name) AS \`from\`, CONCAT(constraint_schema, '.', table_name) AS \`to\`
     FROM information_schema.referential_constraints WHERE delete_rule NOT IN ('RESTRICT', 'NO ACTION') OR update_rule NOT IN ('RESTRICT', 'NO ACTION')`,
  );
  const found = new Map<string, string[]>();
  for (const { from, to } of rows) found.set(to, [...(found.get(to) ?? []), from]);
  return found;
}

/** Which tables the log says may have changed between two places of it. Throws SourceError, and LogGap where it does not lead from one to the other. */
export function changedTables(
  server: DatabaseServer,
  from: Position,
  to: Position,
  stopped: Stopped,
): Promise<(database: string, table: string) => boolean> {
  return withMariadb(server, async (c) => {
    const files = (await c.rows<{ Log_name: string }>('SHOW BINARY LOGS')).map((f) => f.Log_name);
    const first = files.indexOf(from.file);
    const last = files.indexOf(to.file);
    if (first < 0 || last < first) throw new LogGap(`the log ${from.file} of the server is not there any more`);
    const then = await c.row<{ id: string | null }>('SELECT BINLOG_GTID_POS(?, ?) AS id', [from.file, from.at]);
    if (from.id && !(then?.id ?? '').split(',').includes(from.id.split(',')[0]!))
      throw new LogGap('the log of the server is another one than before');
    const said = new ChangedByLog();
    for (const file of files.slice(first, last + 1)) {
      const at = file === from.file ? from.at : magic.length;
      if (file === to.file && at >= to.at) break;
      await fetchLog(
        { server, address: c.address, file, at },
        (data, reader) => {
          for (const event of reader.take(data)) if (file !== to.file || event.end <= to.at) said.take(event, reader.checked);
          return Promise.resolve();
        },
        stopped,
      );
    }
    const leaders = await leadersOf(c);
    const has = (name: string, seen: readonly string[] = []): boolean => {
      const dot = name.indexOf('.');
      if (said.has(name.slice(0, dot), name.slice(dot + 1))) return true;
      return (leaders.get(name) ?? []).some((leader) => !seen.includes(leader) && has(leader, [...seen, name]));
    };
    return (database, table) => has(`${database}.${table}`);
  });
}
