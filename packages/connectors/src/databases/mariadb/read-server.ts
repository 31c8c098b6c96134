import type { DatabaseServer } from '@lithodex/kinds';
import { EngineError } from '@lithodex/engine';
import type { DatabaseRead, Reading, RowSink, RowsRead, Stopped } from '../family';
import { ClientProgram } from './client-program';
import { MariadbConnection } from './connection';
import { accountsText, databaseNames, readDatabase } from './contents';
import { DumpReader } from './dump-reader';

const dumpProgram = 'mariadb-dump';
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
      rows: (databases, sink, stopped) => readRows(server, connection.address, databases, log === 1, sink, stopped),
      close: () => connection.close(),
    };
  } catch (error) {
    await connection.close();
    throw error;
  }
}

async function readRows(
  server: DatabaseServer,
  address: string,
  databases: readonly DatabaseRead[],
  hasLog: boolean,
  sink: (database: string, table: string) => RowSink | undefined,
  stopped: Stopped,
): Promise<RowsRead> {
  if (databases.length === 0) return { position: null };
  const place = hasLog ? ['--master-data=2', '--gtid'] : [];
  const program = ClientProgram.start(dumpProgram, server, address, [
    ...dumpOptions,
    ...place,
    '--databases',
    ...databases.map((d) => d.name),
  ]);
  const reader = new DumpReader(sink);
  try {
    for await (const data of program.output as AsyncIterable<Buffer>) {
      if (stopped()) throw new EngineError('STOPPED');
      await reader.take(data);
    }
    await program.end();
    await reader.end();
    return { position: reader.position };
  } catch (error) {
    program.kill();
    throw error;
  }
}
