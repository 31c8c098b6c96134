import { familyOf, type PlatformRow } from '../../records/systems/platform-rows';
import { refuse } from './restore-planner';

/** Throws INVALID for a cloud: there, machines are made of volumes that were sent, never written over. */
export function hostsOnly(row: PlatformRow): PlatformRow {
  if (familyOf(row) === 'cloud')
    throw refuse('body.destination', `${row.name} is a cloud: bring it there as a new machine, or over a machine at home.`);
  return row;
}
