import type { Family } from '../family';
import { compareRows, swapTables } from './beside-table';
import { behind } from './behind';
import { bringBack } from './bring-back';
import { grew, LogCapture } from './log/capture-log';
import { changedTables } from './log/changed-tables';
import { commitsAround } from './log/commits-around';
import { readServer } from './read-server';
import { ask, dropTable, rowsOf, tables } from './look-inside';
import { atSecond } from './restore-second';
import { runText } from './run-text';
import { ScratchServer } from './scratch-server';
import { serverFacts, testServer } from './test-server';

/** MariaDB servers, read and written through their own client programs. */
export const mariadb: Family = {
  name: 'mariadb',
  test: testServer,
  facts: serverFacts,
  read: readServer,
  behind,
  captureLog: (ctx, writing, server, start) => new LogCapture(ctx, writing, server, start).run(),
  grew,
  changed: changedTables,
  commits: commitsAround,
  scratch: () => ScratchServer.start(),
  atSecond,
  tables,
  rowsOf,
  ask,
  dropTable,
  besides: (table, suffix) => `${table}${suffix}`,
  bringBack,
  runText,
  compareRows,
  swapTables,
};
