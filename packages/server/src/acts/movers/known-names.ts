import { ApiError } from '../../base/errors';
import type { Deps } from '../deps';

/** Refuses the name of a mover or machine that is known: nobody puts one out that is only asleep. `unit`: for a machine that waits to be rebuilt, which may come again. Throws NAME_TAKEN. */
export async function refuseKnownMover({ db, movers }: Deps, mover: string, unit = false): Promise<void> {
  const names = await Promise.all([db('mover'), ...(unit ? [] : [db('unit')])].map((q) => q.where({ name: mover }).first<unknown>('name')));
  if (names.some((found) => found !== undefined) || [...movers.present(), ...movers.presentUnits()].includes(mover))
    throw new ApiError('NAME_TAKEN', undefined, `There is a mover ${mover}. Choose another name, or have it forgotten first.`);
}
