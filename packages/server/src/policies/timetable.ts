import type { PolicyBody } from '@lithodex/contract';
import { runsBetween, windowAt, type Timetable } from '@lithodex/core';

export type PolicyTimetable = Timetable & Pick<PolicyBody, 'schedule'>;

interface Known {
  readonly id: number;
  readonly body: PolicyBody;
}

/** The policies a policy follows, nearest first. One that comes round to itself ends where it was met before. */
export function followed(body: PolicyBody, policies: readonly Known[]): Known[] {
  const chain: Known[] = [];
  for (let at: PolicyBody | undefined = body; at?.schedule.every === 'after'; at = chain.at(-1)?.body) {
    const { policyId } = at.schedule;
    const next = policies.find((p) => p.id === policyId);
    if (!next || chain.includes(next)) break;
    chain.push(next);
  }
  return chain;
}

/** When a policy runs, as far as that is known ahead: one that follows another has the other's times, and its own closed days. */
export function timetableOf(body: PolicyBody, policies: readonly Known[]): PolicyTimetable {
  const first = followed(body, policies).at(-1)?.body ?? body;
  return { schedule: first.schedule, zone: first.zone, closed: [...new Set([...first.closed, ...body.closed])] };
}

const dayMs = 86_400_000;
/** So far is looked ahead for a number of starts, in days. */
const horizons = [2, 9, 40, 400];

/** When runs of a policy start in (after, until] (ms), by its times and its window: what comes due outside of it waits for it, or does not take place. */
export function startsBetween({ window, zone, catchUp }: PolicyBody, timetable: Timetable, after: number, until: number): number[] {
  if (!window) return runsBetween(timetable, after, until);
  const started = runsBetween(timetable, after - dayMs, until).flatMap((at) => {
    const within = windowAt(window, zone, at);
    return within.open ? [at] : catchUp ? [within.begins] : [];
  });
  return [...new Set(started)].filter((at) => at > after && at <= until);
}

/** The next `count` starts of a policy after an instant (ms), fewer where there are no more within a year. */
export function nextStarts(body: PolicyBody, timetable: Timetable, after: number, count: number): number[] {
  let found: number[] = [];
  for (const days of horizons) {
    found = startsBetween(body, timetable, after, after + days * dayMs);
    if (found.length >= count) break;
  }
  return found.slice(0, count);
}
