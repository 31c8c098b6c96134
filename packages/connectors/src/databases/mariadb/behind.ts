import type { DatabaseServer } from '@lithodex/kinds';
import { withMariadb } from './connection';

/** How many seconds a replica is behind its server; null where it does not follow one, or follows several streams of commits. Throws SourceError. */
export function behind(replica: DatabaseServer): Promise<number | null> {
  return withMariadb(replica, async (c) => {
    const rows = await c.rows<Record<string, string | number | null>>('SHOW ALL SLAVES STATUS');
    const streams = await c.row<{ n: number }>('SELECT COUNT(DISTINCT domain_id) AS n FROM mysql.gtid_slave_pos');
    const [status] = rows;
    const runs = status?.['Slave_IO_Running'] === 'Yes' && status['Slave_SQL_Running'] === 'Yes';
    const seconds = status?.['Seconds_Behind_Master'];
    return rows.length === 1 && runs && Number(streams?.n) === 1 && seconds !== null && seconds !== undefined ? Number(seconds) : null;
  });
}
