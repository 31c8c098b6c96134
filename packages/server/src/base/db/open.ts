import { readFileSync } from 'node:fs';
import knexFactory, { type Knex } from 'knex';
import type { Config } from '../config';
import { migrations } from './migrations';

export function openDatabase(config: Config['database'], connections = 12): Knex {
  return knexFactory({
    client: 'mysql2',
    connection: {
      host: config.host,
      port: config.port,
      user: config.user,
      password: config.password,
      database: config.name,
      timezone: 'Z',
      supportBigNumbers: true,
      connectTimeout: 5000,
      ...(config.tls && {
        ssl: { rejectUnauthorized: true, ...(config.tls.authority && { ca: readFileSync(config.tls.authority, 'utf8') }) },
      }),
    },
    pool: { min: 0, max: connections },
    acquireConnectionTimeout: 10_000,
    migrations: {
      migrationSource: {
        getMigrations: () => Promise.resolve(migrations),
        getMigrationName: (m: { name: string }) => m.name,
        getMigration: (m: { up: (k: Knex) => Promise<void> }) => Promise.resolve({ up: m.up, down: () => Promise.resolve() }),
      },
      tableName: 'migration',
    },
  });
}

/** Rows of a raw query. */
export async function rowsOf<T>(query: Knex.Raw): Promise<T[]> {
  const [rows] = (await query) as unknown as [T[]];
  return rows;
}

/** True for errors that mean the database is away or busy: the same call may succeed later. */
export function isDatabaseAway(error: unknown): boolean {
  const code = (error as { code?: string } | undefined)?.code ?? '';
  const name = (error as { name?: string } | undefined)?.name ?? '';
  return (
    [
      'ECONNREFUSED',
      'PROTOCOL_CONNECTION_LOST',
      'ECONNRESET',
      'ETIMEDOUT',
      'EPIPE',
      'ER_SERVER_SHUTDOWN',
      'ER_LOCK_DEADLOCK',
      'ER_LOCK_WAIT_TIMEOUT',
      'ENOENT',
      'ER_CON_COUNT_ERROR',
      'ER_QUERY_INTERRUPTED',
      'ER_CONNECTION_KILLED',
    ].includes(code) ||
    name === 'KnexTimeoutError' ||
    /closed state|Connection lost|Unable to acquire/i.test((error as Error | undefined)?.message ?? '')
  );
}

/** True for errors that mean a value does not fit where it is to be kept: its transaction is undone. */
export function isUnfit(error: unknown): boolean {
  return [
    'ER_WARN_DATA_OUT_OF_RANGE',
    'ER_DATA_TOO_LONG',
    'ER_DATA_OUT_OF_RANGE',
    'WARN_DATA_TRUNCATED',
    'ER_TRUNCATED_WRONG_VALUE_FOR_FIELD',
    'ER_TRUNCATED_WRONG_VALUE',
    'ER_NO_REFERENCED_ROW_2',
  ].includes((error as { code?: string } | undefined)?.code ?? '');
}

/** Runs a transaction in which every read sees what is committed by then, trying again when it met a deadlock. */
export async function inTransaction<T>(db: Knex, work: (trx: Knex.Transaction) => Promise<T>): Promise<T> {
  for (let attempt = 1; ; attempt++) {
    try {
      return await db.transaction(work, { isolationLevel: 'read committed' });
    } catch (error) {
      if ((error as { code?: string }).code !== 'ER_LOCK_DEADLOCK' || attempt >= 5) throw error;
      await new Promise((resume) => setTimeout(resume, 20 * attempt));
    }
  }
}
