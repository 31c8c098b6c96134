import type { Knex } from 'knex';
import { familyOf, type PlatformRow } from '../../records/systems/platform-rows';
import { refuse } from './restore-planner';

/** A platform, hosts or a cloud. Throws INVALID for one that is not connected here. */
export async function connectedPlatform(db: Knex, id: number): Promise<PlatformRow> {
  const row = await db('source').where({ id, kind: 'platform' }).whereNotNull('secret').first<PlatformRow | undefined>();
  if (!row) throw refuse('body.destination', 'The platform is not connected here.');
  return row;
}

/** A platform of hosts. Throws INVALID for a cloud: there, machines are made of volumes that were sent, never written over. */
export async function connectedHosts(db: Knex, id: number): Promise<PlatformRow> {
  const row = await connectedPlatform(db, id);
  if (familyOf(row) === 'cloud')
    throw refuse('body.destination', `${row.name} is a cloud: bring it there as a new machine, or over a machine at home.`);
  return row;
}
