import type { DatabaseServer } from '@lithodex/kinds';
import { commonDatabase, PgConnection } from './connection';

/** How many seconds a replica is behind its server; null where it does not follow one. Throws SourceError. */
export async function behind(replica: DatabaseServer): Promise<number | null> {
  const c = await PgConnection.open(replica, commonDatabase);
  try {
    const row = (await c.row<{ follows: boolean; seconds: string | null }>(
      `SELECT pg_is_in_recovery() AND EXISTS (SELECT 1 FROM pg_stat_wal_receiver) AS follows,
         (CASE WHEN pg_last_wal_receive_lsn() = pg_last_wal_replay_lsn() THEN 0
           ELSE extract(epoch FROM clock_timestamp() - pg_last_xact_replay_timestamp()) END)::text AS seconds`,
    ))!;
    return row.follows && row.seconds !== null ? Number(row.seconds) : null;
  } finally {
    await c.close();
  }
}
