import type { Family } from '../family';
import { compareRows, swapTables } from './beside-table';
import { behind } from './behind';
import { bringBack } from './bring-back';
import { grew, LogCapture } from './log/capture-log';
import { commitsAround } from './log/commits-around';
import { readServer } from './read-server';
import { ask, besides, dropTable, rowsOf, tables } from './look-inside';
import { atSecond } from './restore-second';
import { runText } from './run-text';
import { ScratchServer } from './scratch-server';
import { serverFacts, testServer } from './test-server';

/** PostgreSQL servers, read and written through their own client programs and protocol. */
export const postgresql: Family = {
  name: 'postgresql',
  test: testServer,
  facts: serverFacts,
  read: readServer,
  behind,
  captureLog: (ctx, writing, server, start) => new LogCapture(ctx, writing, server, start).run(),
  grew,
  commits: commitsAround,
  scratch: () => ScratchServer.start(),
  atSecond,
  tables,
  rowsOf,
  ask,
  dropTable,
  besides,
  bringBack,
  runText,
  compareRows,
  swapTables,
};
