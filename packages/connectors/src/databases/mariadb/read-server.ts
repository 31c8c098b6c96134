import { once } from 'node:events';
import { PassThrough } from 'node:stream';
import { EngineError } from '@lithodex/engine';
import type { DatabaseServer } from '@lithodex/kinds';
import type { DatabaseRead, Reading, RowSink, RowsRead, Stopped, TableRead } from '../family';
import { startProgram } from './mariadb-program';
import { MariadbConnection } from './connection';
import { accountsText, databaseNames, readDatabase } from './contents';
import { DumpReader } from './dump-reader';

const dumpProgram = 'mariadb-dump';
/** Bytes that the program gathers before it writes. */
const gathered = 256 << 10;
/** Bytes of a table that wait to be taken. */
const passedAtOnce = 4 << 20;
/** One instant for all tables and the place of the log at it; one row a statement, which is grouped anew; only rows, as everything else is asked for by itself. */
const dumpOptions = [
  '--single-transaction',
  '--quick',
  '--no-create-info',
  '--no-create-db',
  '--skip-triggers',
  '--skip-extended-insert',
  '--compact',
  '--hex-blob',
  '--tz-utc',
  '--default-character-set=utf8mb4',
  '--max-allowed-packet=1G',
];

/** A MariaDB server that is being read. Throws SourceError. */
export async function readServer(server: DatabaseServer): Promise<Reading> {
  const connection = await MariadbConnection.open(server);
  try {
    const { version, log } = (await connection.row<{ version: string; log: number }>('SELECT VERSION() AS version, @@log_bin AS log'))!;
    const names = await databaseNames(connection);
    return {
      version,
      names,
      database: (name) => readDatabase(connection, name),
      accounts: () => accountsText(connection),
      rows: (databases, sink, stopped) => readRows(server, connection, databases, log === 1, sink, stopped),
      table: (database, table) => tableText(server, connection.address, database, table),
      close: () => connection.close(),
    };
  } catch (error) {
    await connection.close();
    throw error;
  }
}

async function readRows(
  server: DatabaseServer,
  connection: MariadbConnection,
  databases: readonly DatabaseRead[],
  hasLog: boolean,
  sink: (database: string, table: string) => RowSink | undefined,
  stopped: Stopped,
): Promise<RowsRead> {
  if (databases.length === 0) return { position: null };
  const place = hasLog ? ['--master-data=2', '--gtid'] : [];
  const args = [...dumpOptions, ...place, '--databases', ...databases.map((d) => d.name)];
  let since: number | undefined;
  const reader = new DumpReader('', sink);
  await dump(server, connection.address, args, reader, stopped, async () => {
    // the clock is read after the instant was fixed: what is said may be a second late, never early
    since ??= await secondOf(connection);
  });
  const stood = reader.position;
  return { position: stood && { ...stood, since: since ?? (await secondOf(connection)) } };
}

/** The second it is by the server's clock, ms. */
async function secondOf(c: MariadbConnection): Promise<number> {
  return Math.floor(Number((await c.row<{ now: string | number }>('SELECT UNIX_TIMESTAMP(NOW(3)) AS now'))!.now)) * 1000;
}

/** Runs the program that reads, and passes what it writes to the reader. */
async function dump(
  server: DatabaseServer,
  address: string,
  args: readonly string[],
  reader: DumpReader,
  stopped: Stopped,
  /** Called while it is known where the log stood. */
  onPosition?: () => Promise<void>,
): Promise<void> {
  const program = startProgram(dumpProgram, server, address, args, gathered);
  try {
    for await (const data of program.output as AsyncIterable<Buffer>) {
      if (stopped()) throw new EngineError('STOPPED');
      await reader.take(data);
      if (onPosition && reader.position) await onPosition();
    }
    await program.end();
    reader.end();
  } catch (error) {
    program.kill();
    throw error;
  }
}

/** The text of one table: how to make it, then its rows. */
async function* tableText(server: DatabaseServer, address: string, database: string, { name, head }: TableRead): AsyncGenerator<Buffer> {
  yield Buffer.from(head);
  const out = new PassThrough({ highWaterMark: passedAtOnce });
  let given = false;
  const sink: RowSink = {
    open: 0,
    endPiece: () => Promise.resolve(),
    async write(data) {
      // the memory of what is written is used again
      if (!out.write(Buffer.from(data)) && !given) await once(out, 'drain');
    },
  };
  const reading = dump(
    server,
    address,
    [...dumpOptions, database, name],
    new DumpReader(database, (_, table) => (table === name ? sink : undefined)),
    () => given,
  ).then(
    () => out.end(),
    (error: unknown) => out.destroy(error instanceof Error ? error : new Error(String(error))),
  );
  try {
    for await (const data of out as AsyncIterable<Buffer>) yield data;
  } finally {
    given = true;
    out.destroy();
    await reading;
  }
}
