import { windowAt, type PlannedTask } from '@lithodex/core';
import { heaviestFirst, priorities, takesFor, type PolicyBody, type PolicyRule } from '@lithodex/contract';
import type { Deps } from '../deps';
import type { PolicyRow } from '../../records/policies/matching';
import { matchesShown } from '../estate/matching-shown';
import { startsBetween } from '../../records/policies/timetable';
import type { Durations } from './durations';

/** What is to come, and how much of it is guessed. */
export interface ComingTasks {
  readonly tasks: readonly PlannedTask[];
  readonly guessed: number;
}

type Planned = Pick<PolicyRow, 'id' | 'body'>;
const shortest = 1000;
const minuteMs = 60_000;

/** A task's window, should it start at `at`. */
function windowOf({ window, zone }: PolicyBody, at: number): PlannedTask['window'] {
  return window ? { ends: windowAt(window, zone, at).ends, stop: window.stop } : undefined;
}

/** Those of `starts` (ms, in order) that are at least so long apart: what runs all the time begins again when it has ended and rested. */
function apart(starts: readonly number[], ms: number): number[] {
  const kept: number[] = [];
  for (const at of starts) if (at >= (kept.at(-1) ?? -Infinity) + ms) kept.push(at);
  return kept;
}

/** The tasks that policies will queue in (from, to], with copies after the points they copy. Policies that follow others do so run by run. */
export async function comingTasks(
  deps: Deps,
  policies: readonly Planned[],
  durations: Durations,
  from: number,
  to: number,
): Promise<ComingTasks> {
  const sourceOf = new Map(
    (await deps.db('workload').select<{ id: number; source_id: number }[]>('id', 'source_id')).map((w) => [w.id, w.source_id]),
  );
  const tasks: PlannedTask[] = [];
  let guessed = 0;
  const runsOf = new Map<number, { readonly at: number; readonly keys: string[] }[]>();

  const add = (policy: Planned, rule: PolicyRule, workloadId: number, at: number, follows: readonly string[]): string => {
    const { id: policyId, body } = policy;
    const key = `${policyId}/${rule.no}/${workloadId}/${at}`;
    const took = durations.of('backup', workloadId, { policyId, ruleNo: rule.no })!;
    if (took.guessed) guessed++;
    const window = windowOf(body, at);
    const common = { policyId, due: at, priority: priorities.indexOf(body.priority), sourceId: sourceOf.get(workloadId) ?? 0 };
    const { targetId } = rule;
    tasks.push({
      ...common,
      key,
      lasts: Math.max(shortest, took.ms),
      targetId,
      series: `${workloadId}/${targetId}`,
      ...(follows.length && { follows }),
      ...(window && { window }),
    });
    for (const copy of rule.copies) {
      const copied = copy.rhythm === 'every' ? durations.of('copy', workloadId, null) : undefined;
      if (copied)
        tasks.push({
          ...common,
          key: `${key}/${copy.targetId}`,
          priority: priorities.indexOf('usual'),
          lasts: Math.max(shortest, copied.ms),
          targetId: copy.targetId,
          sourceId: -workloadId,
          series: `${workloadId}/${copy.targetId}`,
          follows: [key],
        });
    }
    return key;
  };

  const longestOf = ({ id: policyId }: Planned, rule: PolicyRule, matches: readonly number[]) =>
    Math.max(shortest, ...matches.map((id) => durations.of('backup', id, { policyId, ruleNo: rule.no })!.ms));

  const plan = async (policy: Planned) => {
    if (runsOf.has(policy.id)) return;
    runsOf.set(policy.id, []);
    const matches = (await matchesShown(deps, policy.body)).map((m) => m.id);
    /** Rules that read more of the source and start at these times: they take the point for others. */
    const taken = new Map<number, PolicyRule[]>();
    const own: { at: number; keys: string[] }[] = [];
    // a log is fetched every few minutes, and takes next to nothing: it would hide all else
    for (const rule of heaviestFirst(policy.body.rules).filter((r) => r.kind !== 'log')) {
      const { schedule } = rule;
      const first = schedule.every === 'after' ? policies.find((p) => p.id === schedule.policyId) : undefined;
      if (first) await plan(first);
      const alone = () => {
        const starts = startsBetween(policy.body, { ...policy.body, schedule }, from, to);
        return schedule.every === 'continuous'
          ? apart(starts, schedule.pauseMinutes * minuteMs + longestOf(policy, rule, matches))
          : starts;
      };
      const runs = first ? runsOf.get(first.id)! : alone().map((at) => ({ at, keys: [] as string[] }));
      for (const { at, keys } of runs) {
        const takers = taken.get(at) ?? [];
        if (takers.some((taker) => takesFor(taker, rule))) continue;
        taken.set(at, [...takers, rule]);
        own.push({ at, keys: matches.map((id) => add(policy, rule, id, at, keys)) });
      }
    }
    runsOf.set(policy.id, own);
  };
  for (const policy of policies) await plan(policy);
  return { tasks, guessed };
}
