import { once } from 'node:events';
import { PassThrough } from 'node:stream';
import type { DatabaseServer } from '@lithodex/kinds';
import type { Reading, RowSink, Stopped, TableRead } from '../family';
import { placeOfReplica, placeOfSnapshot } from './place-of-snapshot';
import { MariadbConnection, withMariadb } from './connection';
import { accountsText, databaseNames, readDatabase } from './contents';
import { prepareReading, readRows, readTable } from './read-rows';

/** Bytes of a table that wait to be taken. */
const passedAtOnce = 4 << 20;

/** A MariaDB server that is being read, or a replica in its place. Throws SourceError. */
export async function readServer(server: DatabaseServer, replica?: DatabaseServer): Promise<Reading> {
  const read = replica ?? server;
  const connection = await MariadbConnection.open(read);
  try {
    const { version, log } = (await connection.row<{ version: string; log: number }>('SELECT VERSION() AS version, @@log_bin AS log'))!;
    const names = await databaseNames(connection);
    const placeIn = (hasLog: boolean, stopped: Stopped) => (c: MariadbConnection) =>
      replica ? placeOfReplica(c, server, stopped) : hasLog ? placeOfSnapshot(c) : Promise.resolve(null);
    return {
      version,
      names,
      database: (name) => readDatabase(connection, name),
      accounts: () => accountsText(connection),
      rows: (databases, take, stopped) => withMariadb(read, (c) => readRows(c, databases, placeIn(log === 1, stopped), take, stopped)),
      table: (database, table) => tableText(read, database, table),
      close: () => connection.close(),
    };
  } catch (error) {
    await connection.close();
    throw error;
  }
}

/** The text of one table: how to make it, then its rows. */
async function* tableText(server: DatabaseServer, database: string, table: TableRead): AsyncGenerator<Buffer> {
  yield Buffer.from(table.head);
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
  const reading = withMariadb(server, async (c) => {
    await prepareReading(c);
    await readTable(
      c,
      database,
      table,
      () => sink,
      () => given,
    );
  }).then(
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
