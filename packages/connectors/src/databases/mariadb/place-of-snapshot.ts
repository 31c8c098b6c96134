import type { DatabasePoint, DatabaseServer } from '@lithodex/kinds';
import type { Stopped } from '../family';
import { withMariadb, type MariadbConnection } from './connection';
import { idText, placeBehind } from './log/place-of-id';

/** The second it is by the clock of a server, ms. Read after an instant was fixed: what is said may be a second late, never early. */
async function secondOf(c: MariadbConnection): Promise<number> {
  return Math.floor(Number((await c.row<{ now: string | number }>('SELECT UNIX_TIMESTAMP(NOW(3)) AS now'))!.now)) * 1000;
}

/** Where the log stood at the instant of the snapshot of a connection, and a second not before it. */
export async function placeOfSnapshot(c: MariadbConnection): Promise<DatabasePoint['position']> {
  const rows = await c.rows<{ Variable_name: string; Value: string }>("SHOW STATUS LIKE 'binlog_snapshot_%'");
  const said = new Map(rows.map((r) => [r.Variable_name.toLowerCase(), r.Value]));
  const [file, at] = [said.get('binlog_snapshot_file'), Number(said.get('binlog_snapshot_position'))];
  if (!file) return null;
  const { id } = (await c.row<{ id: string | null }>('SELECT BINLOG_GTID_POS(?, ?) AS id', [file, at]))!;
  return { file, at, id: id ?? '', since: await secondOf(c) };
}

/** The same of a replica, in the log of the server that it follows: what it had made its own then is in the snapshot as well. Null where that server keeps no log. */
export async function placeOfReplica(c: MariadbConnection, server: DatabaseServer, stopped: Stopped): Promise<DatabasePoint['position']> {
  const last = await c.row<{ domain: number; server: number; number: string | number }>(
    'SELECT domain_id AS domain, server_id AS server, seq_no AS number FROM mysql.gtid_slave_pos ORDER BY sub_id DESC LIMIT 1',
  );
  return withMariadb(server, async (primary) => {
    const { log } = (await primary.row<{ log: number }>('SELECT @@log_bin AS log'))!;
    if (log !== 1 || !last) return null;
    const commit = { domain: last.domain, server: last.server, number: BigInt(last.number) };
    return { ...(await placeBehind(primary, server, commit, stopped)), id: idText(commit), since: await secondOf(primary) };
  });
}
