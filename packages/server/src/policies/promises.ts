import { Calendar, countOf, Ends, nextRuns, runsPerDay, type Timetable } from '@lithodex/core';
import type { PolicyBody } from '@lithodex/contract';
import { decideCopies, presentCopies } from '../catalog/copies';
import { livingPoints, type SeriesRow } from '../catalog/points';
import type { Deps } from '../deps';
import { policiesInForce } from './matching';
import { policyOf } from './put-in-force';
import { timetableOf } from './timetable';

const hourMs = 3_600_000;
/** Runs to come that are looked at to tell when a rule by points lets go. */
const daysAhead = 400;

/** How a policy keeps points on one of its targets. */
function keepOn(body: PolicyBody, targetId: string) {
  return targetId === body.targetId ? body.keep : body.copies.find((c) => c.targetId === targetId)?.keep;
}

/** Tells until when points are kept by a policy, as its runs come. What is to come is worked out once for each target, however many series are asked for. */
class Promised {
  private readonly known = new Map<string, Ends | undefined>();

  constructor(
    private readonly body: PolicyBody,
    private readonly timetable: Timetable,
    private readonly now: number,
  ) {}

  private endsOn(targetId: string): Ends | undefined {
    const { body, now } = this;
    const keep = keepOn(body, targetId);
    if (!keep) return undefined;
    const { timetable } = this;
    const future = nextRuns(timetable, now, Math.ceil(runsPerDay(timetable.schedule) * daysAhead));
    const calendar = new Calendar(body.zone, keep.by === 'hand' ? 1 : (keep.longTerm?.day ?? 1));
    return new Ends({ keep, lockDays: 0, zone: body.zone }, future, calendar);
  }

  /** The ends of a row of points (ms, oldest first); undefined where the policy says nothing of the target, as what was promised then stays. */
  ends(targetId: string, moments: readonly number[]): Float64Array | undefined {
    if (!this.known.has(targetId)) this.known.set(targetId, this.endsOn(targetId));
    const ends = this.known.get(targetId);
    if (!ends) return undefined;
    const size = moments.length + ends.future.length;
    const told = new Float64Array(size);
    ends.of(moments, new Float64Array(size), told);
    return told;
  }
}

/**
 * What a changed policy would take from the points that stand: those that would go at once, and those that would be kept for less long than the policy in force promises. '' when
 * it breaks no promise.
 */
export async function promisesBroken(deps: Deps, id: number, body: PolicyBody): Promise<string> {
  const { body: before, timetable } = await policyOf(deps, id);
  const inForce = await policiesInForce(deps.db);
  const now = deps.clock.now();
  const made = deps.db('point').where({ policy_id: id, state: 'visible' });
  const serieses = await deps.db('series').whereIn('no', made.clone().distinct('series_no')).select<SeriesRow[]>();
  const [promised, promises] = [new Promised(before, timetable, now), new Promised(body, timetableOf(body, inForce), now)];
  let [atOnce, earlier] = [0, 0];
  for (const series of serieses) {
    const points = await livingPoints(deps.db, series.no);
    const copies = await presentCopies(
      deps.db,
      points.map((p) => p.id),
    );
    const frozen = (await deps.db('workload').where({ id: series.workload_id }).first<{ frozen: 0 | 1 }>('frozen')).frozen === 1;
    const decide = ({ keep, targetId, copies: rules, zone }: PolicyBody) =>
      decideCopies(series, points, copies, { keep, targetId, copies: rules, zone }, now, frozen);
    const was = decide(before);
    for (const [target, decisions] of decide(body)) {
      const own = points.filter((p) => decisions.has(p.id) && p.policy_id === id && p.suspect === 0 && p.held === 0 && p.keep_own === null);
      const moments = own.map((p) => p.moment);
      const [old, next] = [promised.ends(target, moments), promises.ends(target, moments)];
      own.forEach((point, i) => {
        const decision = decisions.get(point.id)!;
        const lock = copies.get(point.id)?.find((c) => c.target_id === target)?.locked_until ?? 0;
        if (was.get(target)?.get(point.id)?.expires) return;
        if (decision.expires) atOnce++;
        else if (old && next && Math.max(next[i]!, lock) < Math.max(old[i]!, lock) - hourMs) earlier++;
      });
    }
  }
  const parts = [
    atOnce ? `${countOf(atOnce, 'copy', 'copies')} of points deleted at once` : '',
    earlier ? `${countOf(earlier, 'copy', 'copies')} kept for less long than promised` : '',
  ];
  return parts.filter(Boolean).join(', ');
}
