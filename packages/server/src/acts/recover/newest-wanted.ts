import { countOf, formatMoment } from '@lithodex/core';
import { kinds, type KindName } from '@lithodex/kinds';
import type { PointRow } from '../../records/catalog/points';
import type { Deps } from '../deps';
import { bandOf } from '../estate/database-band';
import { newestSound } from './standing';

/** What of a workload loses the least. `until`: the last second of its log, where that leads on from a point. `doubts`: what to think of before, in words. */
export interface Wanted {
  readonly point: PointRow;
  readonly until: { readonly at: number } | null;
  readonly moment: number;
  readonly doubts: readonly string[];
}

/** The newest that can be had of a workload: its newest sound point, or the last second that its log reaches. Throws NOT_NOW where there is no such point. */
export async function newestWanted(deps: Deps, workloadId: number): Promise<Wanted> {
  const point = await newestSound(deps, workloadId);
  const asItIs = { point, until: null, moment: point.moment, doubts: [] };
  const { kind } = await deps.db('workload').where({ id: workloadId }).first<{ kind: KindName }>('kind');
  if (!kinds[kind].logs) return asItIs;
  const { stretches, notable } = await bandOf(deps.db, workloadId);
  const last = stretches.at(-1);
  if (!last?.from || last.to <= point.moment) return asItIs;
  const taking = notable.filter((commit) => commit.at > point.moment && commit.at <= last.to);
  const first = taking[0];
  const doubts = first
    ? [
        `${countOf(taking.length, 'commit')} since its point took much away at once, the first ${formatMoment(first.at, deps.config.zone)}: that happens again, as it comes to the last second of its log.`,
      ]
    : [];
  return { point, until: { at: last.to }, moment: last.to, doubts };
}
