import { createHash } from 'node:crypto';
import type { DatabaseServer } from '@lithodex/kinds';
import { quotedText } from '../dump-text';
import type { PgConnection } from '../connection';
import { placeText } from './lsn';

/** Name by which the server knows what of its log is not read yet. */
export const slotName = ({ host, port, account, id }: DatabaseServer): string =>
  `lithodex_${createHash('sha256')
    .update(JSON.stringify([host, port, account, id]))
    .digest('hex')
    .slice(0, 12)}`;

/** Lets the server keep its log from now on until it is read. */
export async function holdLog(c: PgConnection, server: DatabaseServer): Promise<void> {
  const name = slotName(server);
  if (await c.row('SELECT 1 FROM pg_replication_slots WHERE slot_name = $1', [name])) return;
  await c.run(`SELECT pg_create_physical_replication_slot(${quotedText(name)}, true)`);
}

/** What lies before a place is not needed any more. A server that took it away already has nothing to give up. */
export async function releaseLog(c: PgConnection, server: DatabaseServer, before: number): Promise<void> {
  const slot = await c.row<{ ahead: boolean }>(
    "SELECT restart_lsn IS NOT NULL AND restart_lsn < $2::pg_lsn AS ahead FROM pg_replication_slots WHERE slot_name = $1 AND NOT active AND wal_status IS DISTINCT FROM 'lost'",
    [slotName(server), placeText(before)],
  );
  if (slot?.ahead) await c.run(`SELECT pg_replication_slot_advance(${quotedText(slotName(server))}, ${quotedText(placeText(before))})`);
  // one that was lost keeps nothing: it is made anew
  const lost = await c.row("SELECT 1 FROM pg_replication_slots WHERE slot_name = $1 AND wal_status = 'lost'", [slotName(server)]);
  if (!lost) return;
  await c.run(`SELECT pg_drop_replication_slot(${quotedText(slotName(server))})`);
  await c.run(`SELECT pg_create_physical_replication_slot(${quotedText(slotName(server))}, true)`);
}
