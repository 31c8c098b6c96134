/** How bad it is what a rule found. */
export const grades = ['suspect', 'infected'] as const;
export type Grade = (typeof grades)[number];

/** What a scan said of a point. */
export interface PointScan {
  /** Name of the set of rules it was scanned by. */
  readonly rules: string;
  readonly suspect: number;
  readonly infected: number;
  /** Items that could not be looked into. */
  readonly notLooked: number;
}

export const verdicts = ['unscanned', 'nothing', 'clean', 'suspect', 'infected'] as const;
/**
 * What is known of a point. `clean`: everything in it was scanned by the newest rules. `nothing`: nothing was found, but not all of it could be looked into, or newer rules have come since.
 */
export type Verdict = (typeof verdicts)[number];

/** The verdict on a point. `newest`: the set of rules that is in force. */
export function verdictOf(scan: PointScan | undefined, newest: string): Verdict {
  if (!scan) return 'unscanned';
  if (scan.infected) return 'infected';
  if (scan.suspect) return 'suspect';
  return scan.rules === newest && !scan.notLooked ? 'clean' : 'nothing';
}

/** The newest point against which nothing is known, scanned clean before one that is not fully; undefined where none was scanned. Points come oldest first. */
export function lastClean<P extends { readonly verdict: Verdict }>(points: readonly P[]): P | undefined {
  const newestBad = points.findLastIndex(({ verdict }) => verdict === 'infected' || verdict === 'suspect');
  const after = points.slice(newestBad + 1);
  return (
    after.findLast(({ verdict }) => verdict === 'clean') ??
    after.findLast(({ verdict }) => verdict === 'nothing') ??
    points.findLast(({ verdict }) => verdict === 'clean') ??
    points.findLast(({ verdict }) => verdict === 'nothing')
  );
}
