/** What movers can be entitled to. */
export const moverDuties = ['capture', 'keep', 'prune'] as const;
/** And what a machine is entitled to that was started from a recovery medium: to be made anew, and nothing else. */
export const tokenDuties = [...moverDuties, 'rebuild'] as const;
