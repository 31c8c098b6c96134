/** How an objective was kept over a time. */
export interface ObjectiveRecord {
  /** Share of the time in which the newest good point was young enough, 0 to 1. */
  readonly within: number;
  /** How often it became too old. */
  readonly breaches: number;
  /** The greatest age it reached, ms. */
  readonly oldestMs: number;
}

/**
 * The record of an objective over [`from`, `to`). `moments`: those of the good points, also from before `from`, in any order; `since`: when there was something to protect, from which age
 * counts while there is no point. All in ms; `objectiveMs` is how old the newest point may be.
 */
export function objectiveRecord(moments: readonly number[], since: number, objectiveMs: number, from: number, to: number): ObjectiveRecord {
  const begin = Math.max(from, since);
  if (begin >= to) return { within: 1, breaches: 0, oldestMs: 0 };
  const points = [since, ...moments.filter((m) => m >= since && m < to).sort((a, b) => a - b)];
  let [past, breaches, oldestMs] = [0, 0, 0];
  points.forEach((point, i) => {
    const end = points[i + 1] ?? to;
    if (end <= begin) return;
    oldestMs = Math.max(oldestMs, end - point);
    const late = end - Math.max(point + objectiveMs, begin);
    if (late <= 0) return;
    past += late;
    breaches++;
  });
  return { within: 1 - past / (to - begin), breaches, oldestMs };
}
