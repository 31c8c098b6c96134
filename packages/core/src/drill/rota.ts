/** A workload that can be drilled. Times in ms. */
export interface DrillCandidate {
  readonly id: number;
  /** 1, 2 or 3; 0 leaves it out. */
  readonly weight: number;
  readonly last: { readonly at: number; readonly passed: boolean } | null;
  /** Share of its content that came since its last drill, 0 for none, 1 for all of it and above. */
  readonly changed: number;
}

const dayMs = 86_400_000;
/** One that was never drilled counts as if it had been so long ago. */
const neverDays = 3650;
/** What failed is looked at again sooner. */
const failedFactor = 4;

/** How urgent a drill is: days since the last, more where it matters, where much changed since, and where it failed. */
export function drillUrgency({ weight, last, changed }: DrillCandidate, now: number): number {
  const days = last ? Math.max(0, now - last.at) / dayMs : neverDays;
  return days * weight * (1 + Math.min(1, Math.max(0, changed))) * (last && !last.passed ? failedFactor : 1);
}

/** The ids of candidates in the order in which they are drilled; those of no weight are left out. */
export function drillRota(candidates: readonly DrillCandidate[], now: number): number[] {
  return candidates
    .filter((c) => c.weight > 0)
    .map((c) => ({ id: c.id, urgency: drillUrgency(c, now) }))
    .sort((a, b) => b.urgency - a.urgency || a.id - b.id)
    .map((c) => c.id);
}
