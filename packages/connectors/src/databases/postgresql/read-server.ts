import { EngineError } from '@lithodex/engine';
import type { DatabaseServer } from '@lithodex/kinds';
import { SourceError } from '../../source-error';
import type { DatabaseRead, Reading, RowSink, RowsTake, Stopped, TableRead } from '../family';
import { commonDatabase, PgConnection } from './connection';
import { readDatabase, type DatabaseFound } from './contents';
import { CopyReader, endOfRows } from './copy-reader';
import { placeOf } from './log/lsn';
import { logName } from './log/read-records';
import { holdLog } from './log/slot';
import { OutputPipe } from '../output-pipe';
import { startProgram } from './programs';

/** Instants that are held at the same time: each takes a connection. */
const mostInstants = 40;
/** The copy of the files says within so many bytes where the log stood. */
const mostLabel = 4096;

/** An instant of one database, held by a transaction. */
interface Instant {
  readonly connection: PgConnection;
  readonly snapshot: string;
}

/** Names of databases that hold something. Throws SourceError. */
export async function databaseNames(c: PgConnection): Promise<string[]> {
  const rows = await c.rows<{ name: string }>(
    'SELECT datname AS name FROM pg_database WHERE datallowconn AND NOT datistemplate ORDER BY datname',
  );
  const own = await c.row(
    "SELECT 1 FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname !~ '^pg_' AND n.nspname <> 'information_schema' LIMIT 1",
  );
  // the one that everybody signs in to is there on every server
  return rows.map((r) => r.name).filter((name) => name !== commonDatabase || own !== undefined);
}

/** A PostgreSQL server that is being read, or a replica in its place: each database at one instant of its own. Throws SourceError. */
export async function readServer(server: DatabaseServer, replica = server): Promise<Reading> {
  const connection = await PgConnection.open(replica);
  const reading = new PgReading(replica, connection, server);
  try {
    await reading.begin();
    return reading;
  } catch (error) {
    await reading.close();
    throw error;
  }
}

/** What a server that is made of copied files has to know. */
export interface FilesState {
  /** The log leads on from `from`, and has to lead to `to` at least. */
  readonly from: number;
  readonly to: number;
  readonly timeline: number;
  /** The account that the server was born with. */
  readonly owner: string;
}

class PgReading implements Reading {
  version = '';
  names: readonly string[] = [];
  private readonly instants = new Map<string, Instant>();
  private readonly found = new Map<string, DatabaseFound>();

  constructor(
    private readonly server: DatabaseServer,
    private readonly connection: PgConnection,
    /** The one whose log leads on: itself, or the one it follows. */
    private readonly logged: DatabaseServer,
  ) {}

  /** Fixes the instants of the databases, right after each other. */
  async begin(): Promise<void> {
    this.version = (await this.connection.row<{ v: string }>("SELECT current_setting('server_version') AS v"))!.v;
    this.names = await databaseNames(this.connection);
    for (const name of this.names.slice(0, mostInstants)) await this.hold(name);
  }

  private async hold(name: string): Promise<Instant> {
    const connection = await PgConnection.open(this.server, name);
    try {
      await connection.run('BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY');
      const { snapshot } = (await connection.row<{ snapshot: string }>('SELECT pg_export_snapshot() AS snapshot'))!;
      const held = { connection, snapshot };
      this.instants.set(name, held);
      return held;
    } catch (error) {
      await connection.close();
      throw error;
    }
  }

  /** As it was at its instant; once that was read, as it is now. */
  async database(name: string): Promise<DatabaseRead> {
    if (this.found.has(name) && !this.instants.has(name)) {
      const now = await PgConnection.open(this.server, name);
      try {
        return await readDatabase(now, this.server, name, undefined);
      } finally {
        await now.close();
      }
    }
    const { connection, snapshot } = this.instants.get(name) ?? (await this.hold(name));
    const found = await readDatabase(connection, this.server, name, snapshot);
    this.found.set(name, found);
    return found;
  }

  async accounts(): Promise<string> {
    try {
      const program = startProgram('pg_dumpall', this.server, this.connection.address, commonDatabase, ['--roles-only']);
      const parts: Buffer[] = [];
      for await (const data of program.output as AsyncIterable<Buffer>) parts.push(data);
      await program.end();
      // the program guards its own text by a word that is another one each time
      return Buffer.concat(parts)
        .toString()
        .replace(/^\\(un)?restrict .*\n/gm, '');
    } catch {
      return '';
    }
  }

  async rows(databases: readonly DatabaseRead[], take: RowsTake, stopped: Stopped): Promise<void> {
    // instants are those of databases, and the log is that of the server: it says nothing of tables at them
    await take.fixed(null);
    for (const { name } of databases) {
      const found = this.found.get(name)!;
      const held = this.instants.get(name)!;
      await this.rowsOf(found, held, (table) => (take.wants(name, table) ? take.sink(name, table) : undefined), stopped);
      // an instant that is held keeps the server from tidying up
      this.instants.delete(name);
      await held.connection.close();
    }
  }

  private async rowsOf(
    { name, tables }: DatabaseFound,
    { connection, snapshot }: Instant,
    sinkOf: (table: string) => RowSink | undefined,
    stopped: Stopped,
  ): Promise<void> {
    const output = await OutputPipe.open();
    const options = ['-X', '-q', '-A', '-t', '-v', 'ON_ERROR_STOP=1', '-f', '-'];
    const program = startProgram('psql', this.server, connection.address, name, options, output);
    const reader = new CopyReader();
    try {
      await program.write(`BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY;\nSET TRANSACTION SNAPSHOT '${snapshot}';\n`);
      for (const table of tables) {
        const sink = sinkOf(table.name);
        if (!sink) continue;
        if (table.copy !== undefined) {
          await sink.write(Buffer.from(`COPY ${table.copy} FROM stdin;\n`));
          await program.write(`COPY ${table.copy} TO STDOUT;\n\\echo '\\\\.'\n`);
          while (!(await reader.take(sink))) {
            if (stopped()) throw new EngineError('STOPPED');
            const next = await output.next();
            if (!next) {
              await program.end();
              throw new SourceError('DUMP_UNREADABLE', `${name}: the rows of ${table.name} have no end`);
            }
            reader.add(next);
          }
          await sink.write(endOfRows);
        }
        await sink.write(Buffer.from(table.tail));
      }
      await program.end();
    } catch (error) {
      program.kill();
      throw error;
    } finally {
      output.close();
    }
  }

  async *table(database: string, { name, head }: TableRead): AsyncGenerator<Buffer> {
    const { copy, tail } = this.found.get(database)!.tables.find((t) => t.name === name)!;
    yield Buffer.from(head);
    if (copy !== undefined) {
      yield Buffer.from(`COPY ${copy} FROM stdin;\n`);
      const program = startProgram('psql', this.server, this.connection.address, database, ['-X', '-q', '-c', `COPY ${copy} TO STDOUT`]);
      try {
        for await (const data of program.output as AsyncIterable<Buffer>) yield data;
        await program.end();
      } finally {
        program.kill();
      }
      yield endOfRows;
    }
    yield Buffer.from(tail);
  }

  /** Reads the files of the server while it works: a log that begins before they are read makes them whole. */
  async files(write: (data: Buffer) => Promise<void>, stopped: Stopped): ReturnType<NonNullable<Reading['files']>> {
    const { server, connection } = this;
    // from here on the log is kept until it is read
    const primary = await PgConnection.open(this.logged, commonDatabase);
    try {
      await holdLog(primary, this.logged);
    } finally {
      await primary.close();
    }
    const args = ['--pgdata=-', '--format=tar', '--wal-method=none', '--checkpoint=fast', '--no-manifest', '--no-sync'];
    const output = await OutputPipe.open();
    const program = startProgram('pg_basebackup', server, connection.address, commonDatabase, args, output);
    let label = Buffer.alloc(0);
    try {
      for (let data = await output.next(); data; data = await output.next()) {
        if (stopped()) throw new EngineError('STOPPED');
        if (label.length < mostLabel) label = Buffer.concat([label, data]);
        await write(data);
      }
      await program.end();
    } catch (error) {
      program.kill();
      throw error;
    } finally {
      output.close();
    }
    // the archive begins with what the server says of the copy
    const text = label.toString('latin1', 0, mostLabel);
    const [from, timeline] = [/START WAL LOCATION: (\S+) /, /^START TIMELINE: (\d+)/m].map((p) => p.exec(text)?.[1]);
    if (!text.startsWith('backup_label\0') || !from || !timeline)
      throw new SourceError('DUMP_UNREADABLE', 'the copy does not say where the log stood');
    // whole from the end of the copy on: not before the second after it
    const { now, owner, end } = (await connection.row<{ now: string; owner: string; end: string }>(
      'SELECT extract(epoch FROM clock_timestamp())::text AS now, (CASE WHEN pg_is_in_recovery() THEN pg_last_wal_replay_lsn() ELSE pg_current_wal_lsn() END)::text AS end, rolname AS owner FROM pg_roles WHERE oid = 10',
    ))!;
    const state: FilesState = { from: placeOf(from), to: placeOf(end), timeline: Number(timeline), owner };
    return {
      position: { file: logName(state.timeline), at: state.from, id: from, since: Math.ceil(Number(now)) * 1000 },
      state,
    };
  }

  async close(): Promise<void> {
    for (const { connection } of this.instants.values()) await connection.close();
    this.instants.clear();
    await this.connection.close();
  }
}
