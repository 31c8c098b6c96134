/** What movers can be entitled to. */
export const moverDuties = ['capture', 'keep', 'prune'] as const;
