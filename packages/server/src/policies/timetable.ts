import type { PolicyBody } from '@lithodex/contract';
import type { Timetable } from '@lithodex/core';

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
