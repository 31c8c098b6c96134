import { SourceError } from '../../source-error';
import type { Family } from '../family';
import { bringBack } from './bring-back';
import { readServer } from './read-server';
import { serverFacts, testServer } from './test-server';

const noLog = () => Promise.reject(new SourceError('LOG_OFF', 'that of this family is not read'));

/** PostgreSQL servers, read and written through their own client programs and protocol. */
export const postgresql: Family = {
  name: 'postgresql',
  test: testServer,
  facts: serverFacts,
  read: readServer,
  captureLog: noLog,
  commits: noLog,
  atSecond: noLog,
  bringBack,
};
