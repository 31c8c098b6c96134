import type { moverDuties } from '@lithodex/contract';

/** What movers may be let in for, in words. */
export const dutyWords: Record<(typeof moverDuties)[number], string> = {
  capture: 'read and restore machines, servers and their data',
  keep: 'open targets and write points',
  prune: 'take away what has expired',
};
