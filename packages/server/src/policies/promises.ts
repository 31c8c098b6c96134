import { countOf, type KeepDecision } from '@lithodex/core';
import type { PolicyBody } from '@lithodex/contract';
import { decideCopies, presentCopies } from '../catalog/copies';
import { livingPoints, type SeriesRow } from '../catalog/points';
import type { Deps } from '../deps';
import { policyOf } from './put-in-force';

const sooner = (was: KeepDecision, is: KeepDecision) =>
  !was.expires && (is.expires || (is.until !== undefined && is.until < (was.until ?? Infinity)));

/**
 * What a changed policy would take from the points that stand: those that would go at once, and those that would be kept for less long than they were promised. '' when it breaks
 * no promise.
 */
export async function promisesBroken(deps: Deps, id: number, body: PolicyBody): Promise<string> {
  const { body: before } = await policyOf(deps, id);
  const now = deps.clock.now();
  const made = deps.db('point').where({ policy_id: id, state: 'visible' });
  const serieses = await deps.db('series').whereIn('no', made.clone().distinct('series_no')).select<SeriesRow[]>();
  let [atOnce, earlier] = [0, 0];
  for (const series of serieses) {
    const points = await livingPoints(deps.db, series.no);
    const own = new Set(points.filter((p) => p.policy_id === id).map((p) => p.id));
    const ids = points.map((p) => p.id);
    const copies = await presentCopies(deps.db, ids);
    const frozen = (await deps.db('workload').where({ id: series.workload_id }).first<{ frozen: 0 | 1 }>('frozen')).frozen === 1;
    const decide = ({ keep, copies: rules, zone }: PolicyBody) =>
      decideCopies(series, points, copies, { keep, copies: rules ?? [], zone }, now, frozen);
    const was = decide(before);
    for (const [target, decisions] of decide(body))
      for (const [point, decision] of decisions) {
        const old = was.get(target)?.get(point);
        if (!own.has(point) || !old || !sooner(old, decision)) continue;
        if (decision.expires) atOnce++;
        else earlier++;
      }
  }
  const parts = [
    atOnce ? `${countOf(atOnce, 'copy', 'copies')} of points deleted at once` : '',
    earlier ? `${countOf(earlier, 'copy', 'copies')} kept for less long than promised` : '',
  ];
  return parts.filter(Boolean).join(', ');
}
