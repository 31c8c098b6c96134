import type { PolicyBody, WorkloadRow } from '@lithodex/contract';
import type { Deps } from '../deps';
import { matchAmong, selectionFacts, type Candidate, type Match } from './matching';

/** What rules can ask of rows that were read before; the rows do not change. */
const candidateOf = new WeakMap<WorkloadRow, Candidate>();

/**
 * Workloads a selection matches, for showing: from the estate as it was read last, at most some seconds ago, so that many policies can be shown at once. What runs goes by
 * {@link matchesOf}. Throws INVALID for a rule that can't be read.
 */
export async function matchesShown(deps: Deps, body: Pick<PolicyBody, 'workloads' | 'tags' | 'rule' | 'except'>): Promise<Match[]> {
  const rows = await deps.estate.rows(null);
  const candidates = rows
    .filter((w) => w.gone === null)
    .map((w) => {
      let known = candidateOf.get(w);
      if (!known) {
        known = { id: w.id, name: w.name, facts: selectionFacts(w.name, w.source, w.machine, w.tags) };
        candidateOf.set(w, known);
      }
      return known;
    });
  return matchAmong(candidates, body);
}
