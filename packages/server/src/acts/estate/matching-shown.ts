import type { PolicyBody } from '@lithodex/contract';
import type { Deps } from '../deps';
import type { Known } from './estate';
import { matchAmong, selectionFacts, type Candidate, type Match } from '../../records/policies/matching';

type Selection = Pick<PolicyBody, 'workloads' | 'tags' | 'rule' | 'except'>;

interface Worked {
  readonly candidates: readonly Candidate[];
  /** By what the selection says. */
  readonly matches: Map<string, Match[]>;
}

/** What was worked out of rows that were read together; they do not change. */
const workedOut = new WeakMap<readonly Known[], Worked>();
/** Drafts come and go while somebody types. */
const mostKept = 500;

/**
 * Workloads a selection matches, for showing: from the estate as it was read last, at most some seconds ago, so that many policies can be shown at once. What runs goes by
 * {@link matchesOf}. Throws INVALID for a rule that can't be read.
 */
export async function matchesShown(deps: Deps, { workloads, tags, rule, except }: Selection): Promise<Match[]> {
  const rows = await deps.estate.workloads();
  let worked = workedOut.get(rows);
  if (!worked) {
    const candidates = rows
      .filter((w) => w.goneAt === null)
      .map((w) => ({ id: w.id, name: w.name, facts: selectionFacts(w.name, w.kind, w.source, w.machine, w.tags) }));
    worked = { candidates, matches: new Map() };
    workedOut.set(rows, worked);
  }
  const selection = { workloads, tags, rule, except };
  const key = JSON.stringify(selection);
  let matches = worked.matches.get(key);
  if (!matches) {
    matches = matchAmong(worked.candidates, selection);
    if (worked.matches.size >= mostKept) worked.matches.clear();
    worked.matches.set(key, matches);
  }
  return matches;
}
