import type { Family } from '../family';
import { bringBack } from './bring-back';
import { readServer } from './read-server';
import { serverFacts, testServer } from './test-server';

/** MariaDB servers, read and written through their own client programs. */
export const mariadb: Family = { name: 'mariadb', test: testServer, facts: serverFacts, read: readServer, bringBack };
