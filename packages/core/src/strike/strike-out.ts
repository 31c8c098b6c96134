/** A workload with what stands of it. `system`, `site`: where it lives. Times in ms, sizes in bytes. */
export interface StruckWorkload {
  readonly id: number;
  readonly system: string;
  readonly site: string;
  readonly bytes: number;
  /** Those of a greater number come back first. */
  readonly urgency: number;
  /** How long it took to bring it back when that was last tried. */
  readonly measuredMs: number | null;
  /** Its points, by the targets that each stands on. */
  readonly stands: readonly { readonly targets: readonly string[]; readonly newest: number; readonly points: number }[];
}

export interface StruckTarget {
  readonly id: string;
  readonly site: string;
  /** Somebody holds what opens it without us. */
  readonly envelope: boolean;
  /** Bytes a second at which it was read; null where that was never measured. */
  readonly rate: number | null;
}

/** What is crossed out: it is gone, with all that is in it. */
export interface Struck {
  readonly sites: ReadonlySet<string>;
  readonly systems: ReadonlySet<string>;
  readonly targets: ReadonlySet<string>;
  /** Targets whose keys are gone. */
  readonly keys: ReadonlySet<string>;
  /** Systems that let nobody of ours in any more. */
  readonly accounts: ReadonlySet<string>;
}

/** What becomes of a workload: it lives and is as well kept as before; with fewer points; with none; it is gone and comes back; it is gone for good. */
export type Fate = 'untouched' | 'poorer' | 'unprotected' | 'comesBack' | 'lost';

export interface StruckOutcome {
  readonly id: number;
  readonly fate: Fate;
  readonly pointsLeft: number;
  readonly pointsLost: number;
  /** The newest point that is left; null for none. */
  readonly moment: number | null;
  /** Where it is read. */
  readonly from: string | null;
  /** It can be read there only with the envelope. */
  readonly byEnvelope: boolean;
  /** No new point of it can be taken, and it can't be put back where it was. */
  readonly shutOut: boolean;
  /** How long its restore takes, and when it is back, counted from the begin; null where nothing was measured. */
  readonly takesMs: number | null;
  readonly backMs: number | null;
}

const isGone = (t: StruckTarget, struck: Struck) =>
  struck.targets.has(t.id) || struck.sites.has(t.site) || (struck.keys.has(t.id) && !t.envelope);

/**
 * What would be lost, and what comes back from where, when: restores begin in the order of urgency, so many at once as there is room for. A workload whose restore was never measured takes as
 * long as its target gives its bytes; where that is not known either, nobody knows when it and those behind it are back.
 * @param atOnce restores that run side by side
 */
export function strikeOut(
  workloads: readonly StruckWorkload[],
  targets: readonly StruckTarget[],
  struck: Struck,
  atOnce: number,
): StruckOutcome[] {
  const left = new Map(targets.filter((t) => !isGone(t, struck)).map((t) => [t.id, t]));
  const outcomes = workloads.map((w) => ({ w, outcome: fateOf(w, left, struck) }));
  const back = outcomes.filter(({ outcome }) => outcome.fate === 'comesBack');
  const backMs = whenBack(
    back
      .sort((a, b) => b.w.urgency - a.w.urgency || (a.outcome.takesMs ?? Infinity) - (b.outcome.takesMs ?? Infinity) || a.w.id - b.w.id)
      .map(({ w, outcome }) => ({ id: w.id, ms: outcome.takesMs })),
    atOnce,
  );
  return workloads.map((w, i) => ({ ...outcomes[i]!.outcome, backMs: backMs.get(w.id) ?? null }));
}

function fateOf(w: StruckWorkload, left: ReadonlyMap<string, StruckTarget>, struck: Struck): Omit<StruckOutcome, 'backMs'> {
  const isHit = struck.systems.has(w.system) || struck.sites.has(w.site);
  const standing = w.stands.map((s) => ({ ...s, on: s.targets.flatMap((id) => left.get(id) ?? []) })).filter((s) => s.on.length > 0);
  const pointsLeft = standing.reduce((sum, s) => sum + s.points, 0);
  const pointsLost = w.stands.reduce((sum, s) => sum + s.points, 0) - pointsLeft;
  const newest = standing.reduce<(typeof standing)[number] | undefined>((a, b) => (a && a.newest >= b.newest ? a : b), undefined);
  // the quickest that needs no envelope
  const from = newest?.on.reduce((a, b) => (rank(b, struck) > rank(a, struck) ? b : a));
  const fate: Fate = isHit ? (from ? 'comesBack' : 'lost') : pointsLost === 0 ? 'untouched' : pointsLeft === 0 ? 'unprotected' : 'poorer';
  const takesMs = w.measuredMs ?? (from?.rate ? Math.round((w.bytes / from.rate) * 1000) : null);
  return {
    id: w.id,
    fate,
    pointsLeft,
    pointsLost,
    moment: newest?.newest ?? null,
    from: from?.id ?? null,
    byEnvelope: from !== undefined && struck.keys.has(from.id),
    shutOut: struck.accounts.has(w.system),
    takesMs: fate === 'comesBack' ? takesMs : null,
  };
}

const rank = (t: StruckTarget, struck: Struck) => (struck.keys.has(t.id) ? 0 : 1e18) + (t.rate ?? 0);

/** When each of some restores ends (ms from the begin) that begin in this order, `atOnce` side by side; null from the first on of which nobody knows. */
export function whenBack(
  restores: readonly { readonly id: number; readonly ms: number | null }[],
  atOnce: number,
): Map<number, number | null> {
  const free = Array.from({ length: Math.max(1, atOnce) }, () => 0);
  const ends = new Map<number, number | null>();
  let known = true;
  for (const { id, ms } of restores) {
    known &&= ms !== null;
    if (!known || ms === null) {
      ends.set(id, null);
      continue;
    }
    const slot = free.indexOf(Math.min(...free));
    const end = free[slot]! + ms;
    free[slot] = end;
    ends.set(id, end);
  }
  return ends;
}
