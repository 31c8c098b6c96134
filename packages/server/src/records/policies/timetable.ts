import type { PolicyBody, PolicyRule } from '@lithodex/contract';
import { longestGap, runsBetween, windowAt, type Timetable } from '@lithodex/core';

/** When one rule of a policy runs. */
export type PolicyTimetable = Timetable & Pick<PolicyRule, 'schedule'> & { readonly rule: number };

interface Known {
  readonly id: number;
  readonly body: PolicyBody;
}

/** The policies that one follows when it waits for another, nearest first and each once. A policy is followed by any of its rules, so it may come round to itself. */
export function followed(body: PolicyBody, policies: readonly Known[]): Known[] {
  const chain: Known[] = [];
  const waiting = [body];
  for (let at = waiting.pop(); at; at = waiting.pop())
    for (const { schedule } of at.rules) {
      const next = schedule.every === 'after' ? policies.find((p) => p.id === schedule.policyId) : undefined;
      if (!next || chain.includes(next)) continue;
      chain.push(next);
      waiting.push(next.body);
    }
  return chain;
}

const pausesOf = (first: readonly string[] | undefined, own: readonly string[]) => [...new Set([...(first ?? []), ...own])];

/**
 * When the rules of a policy run, as far as that is known ahead: one that follows another policy has the times of that one's rules, and the closed days of both. A policy that comes round to
 * itself is not looked at twice.
 */
export function timetablesOf(body: PolicyBody, policies: readonly Known[], met: readonly PolicyBody[] = []): PolicyTimetable[] {
  return body.rules.flatMap(({ no: rule, schedule }): PolicyTimetable[] => {
    const own = { rule, schedule, zone: body.zone, closed: body.closed };
    if (schedule.every !== 'after') return [own];
    const first = policies.find((p) => p.id === schedule.policyId)?.body;
    if (!first || met.includes(first)) return [own];
    return timetablesOf(first, policies, [...met, body]).map((t) => ({ ...t, rule, closed: pausesOf(t.closed, body.closed) }));
  });
}

const dayMs = 86_400_000;
/** So far is looked ahead for a number of starts, in days. */
const horizons = [2, 9, 40, 400];

export const isContinuous = (t: Timetable): boolean => t.schedule.every === 'continuous' || t.schedule.every === 'moment';

/** When runs of a rule start in (after, until] (ms), by its times and its policy's window: what comes due outside of it waits for it, or does not take place. */
export function startsBetween({ window, zone, catchUp }: PolicyBody, timetable: Timetable, after: number, until: number): number[] {
  if (!window) return runsBetween(timetable, after, until);
  const started = runsBetween(timetable, after - dayMs, until).flatMap((at) => {
    const within = windowAt(window, zone, at);
    return within.open ? [at] : catchUp ? [within.begins] : [];
  });
  return [...new Set(started)].filter((at) => at > after && at <= until);
}

/** The same for all rules of a policy, in order; what they start at the same time is one start. */
export function allStartsBetween(body: PolicyBody, timetables: readonly Timetable[], after: number, until: number): number[] {
  const starts = timetables.flatMap((t) => startsBetween(body, t, after, until));
  return timetables.length > 1 ? [...new Set(starts)].sort((a, b) => a - b) : starts;
}

/**
 * The next `count` starts of a policy after an instant (ms), fewer where there are no more within a year. Of what runs all the time only the first is known, at the latest: when the next begins is said by the end of
 * the one before.
 */
export function nextStarts(body: PolicyBody, timetables: readonly Timetable[], after: number, count: number): number[] {
  const fixed = timetables.filter((t) => !isContinuous(t));
  // what is followed never begins
  const first = timetables
    .filter((t) => isContinuous(t) && t.schedule.every !== 'moment')
    .flatMap((t) => {
      const [next] = startsBetween(body, t, after, after + 9 * dayMs);
      return next === undefined ? [] : [Math.max(next, after + longestGap(t.schedule))];
    });
  let found: number[] = [];
  for (const days of fixed.length ? horizons : []) {
    found = allStartsBetween(body, fixed, after, after + days * dayMs);
    if (found.length >= count) break;
  }
  return [...new Set([...first, ...found])].sort((a, b) => a - b).slice(0, count);
}
