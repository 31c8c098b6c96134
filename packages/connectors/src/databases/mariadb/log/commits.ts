import type { DatabaseCommit } from '@lithodex/kinds';
import { bodyOf, eventType, type LogEvent } from './events';
import { countRows, readTableMap, rowChangeOf, tableIdOf, type LoggedTable } from './row-events';

const mostText = 300;
const mostTables = 20;

/** Statements that end a transaction or begin one: no work of their own. */
const framing = /^(BEGIN|COMMIT|ROLLBACK|SAVEPOINT\b.*)$/is;

/** Whether a statement only begins or ends a transaction. */
export const isFraming = (sql: string): boolean => framing.test(sql.trim());

/** The statement of an event, and the database it was meant for. */
export function readQuery(body: Buffer): { readonly database: string; readonly sql: string } {
  const databaseBytes = body[8]!;
  const statusBytes = body.readUInt16LE(11);
  const at = 13 + statusBytes;
  return { database: body.toString('utf8', at, at + databaseBytes), sql: body.toString('utf8', at + databaseBytes + 1) };
}

/** Gathers what the events of a log say was done, commit by commit. */
export class CommitReader {
  private readonly tables = new Map<number, LoggedTable>();
  private open: { -readonly [K in keyof DatabaseCommit]: DatabaseCommit[K] } | undefined;

  /** `file`: name of the log on the server. Calls `done` with every commit that is whole. */
  constructor(
    private readonly file: string,
    private readonly done: (commit: DatabaseCommit) => void,
  ) {}

  /** Takes the next event; `checked`: it carries a checksum. */
  take(event: LogEvent, checked: boolean): void {
    const { type } = event;
    if (event.madeUp) return;
    if (type === eventType.gtid) {
      this.close();
      const position = event.end - event.data.length;
      this.open = { at: event.at * 1000, file: this.file, position, id: idOf(event, checked), statement: '', tables: [] };
      return;
    }
    if (!this.open) return;
    const body = bodyOf(event, checked);
    if (type === eventType.annotate && !this.open.statement)
      this.open.statement = body.toString('utf8', 0, mostText * 4).slice(0, mostText);
    else if (type === eventType.tableMap) {
      const { id, table } = readTableMap(body);
      this.tables.set(id, table);
    } else if (type === eventType.query) this.query(body);
    else if (type === eventType.xid) this.close();
    else this.rows(event, body);
  }

  private query(body: Buffer): void {
    const { database, sql } = readQuery(body);
    if (isFraming(sql)) {
      if (/^(COMMIT|ROLLBACK)/i.test(sql.trim())) this.close();
      return;
    }
    const commit = this.open!;
    commit.statement ||= sql.slice(0, mostText);
    // what names of tables a statement holds is not worked out: it says so itself
    this.count(database, '', 'statement', 0);
  }

  private rows(event: LogEvent, body: Buffer): void {
    const rows = rowChangeOf(event.type);
    const table = rows && this.tables.get(tableIdOf(body));
    if (!rows || !table) return;
    const { change, second, compressed } = rows;
    this.count(table.database, table.name, change, compressed ? 0 : countRows(body, table, change, second));
  }

  private count(database: string, table: string, change: DatabaseCommit['tables'][number]['change'], rows: number): void {
    const { tables } = this.open!;
    const known = tables.findIndex((t) => t.database === database && t.table === table && t.change === change);
    if (known >= 0) tables[known] = { ...tables[known]!, rows: tables[known]!.rows + rows };
    else if (tables.length < mostTables) tables.push({ database, table, change, rows });
  }

  /** Ends the commit that is open. */
  close(): void {
    if (this.open) this.done(this.open);
    this.open = undefined;
    this.tables.clear();
  }
}

/** The id that a server gives a commit: domain, server, number. */
function idOf(event: LogEvent, checked: boolean): string {
  const body = bodyOf(event, checked);
  return `${body.readUInt32LE(8)}-${event.server}-${body.readBigUInt64LE(0)}`;
}
