import { formatFirst } from '@lithodex/core';
import type { RestoreBody } from '@lithodex/contract';
import { kinds } from '@lithodex/kinds';
import { restoresElsewhere, serverKinds } from './server-kinds';
import type { ResolvedPick } from '../recover/resolve-picks';
import { refuse, type RestorePlanner } from '../recover/restore-planner';

/** The planner of a restore. Throws INVALID where picks of several kinds are to go home together. */
export function plannerFor(
  { destination }: Pick<RestoreBody, 'destination'>,
  picks: readonly (Pick<ResolvedPick, 'workloadKind'> & Partial<Pick<ResolvedPick, 'inside'>>)[],
): RestorePlanner {
  if (destination.to !== 'original') return restoresElsewhere[destination.to];
  const found = [...new Set(picks.map((p) => p.workloadKind))];
  const [first, ...others] = found;
  if (first && others.length === 0) {
    const { restores, restoresInside, madeAnew } = serverKinds[first];
    const inside = picks.some((p) => p.inside);
    if (destination.removeFirst && (inside || !madeAnew)) throw refuse('body.destination', 'Only whole machines are removed first.');
    return inside ? (restoresInside ?? restores) : restores;
  }
  const nouns = formatFirst(
    found.map((k) => kinds[k].noun),
    5,
  );
  throw refuse('body.picks', `What is of different kinds is restored apart: ${nouns}.`);
}
