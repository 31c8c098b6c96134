import { simulate, type Course, type MeasuredWorkload, type Schedule, type SimulatedRule } from '@lithodex/core';
import { heaviestFirst, takesFor, type PolicyBody, type PolicyMeasures, type PolicyRule } from '@lithodex/contract';

export interface SimulationJob {
  readonly measures: PolicyMeasures;
  readonly draft: PolicyBody;
  readonly inForce: PolicyBody | null;
  readonly days: number;
}

/** What a policy will keep on one target, beside what is in force. */
export interface TargetOutlook {
  readonly target: PolicyMeasures['targets'][number];
  readonly draft: Course;
  /** null where the policy in force does not use the target. */
  readonly inForce: Course | null;
}

interface RuleThere {
  readonly no: number;
  readonly simulated: SimulatedRule;
}

/** How a rule that runs at these times treats a target: as its first one, by a rule for copies, or not at all. */
function ruleOn({ zone, closed }: PolicyBody, rule: PolicyRule, schedule: Schedule, targetId: string): SimulatedRule | undefined {
  if (rule.targetId === targetId) return { zone, schedule, closed, keep: rule.keep, lockDays: rule.lockDays ?? 0 };
  const copy = rule.copies.find((c) => c.targetId === targetId);
  if (!copy) return undefined;
  const { at } = 'at' in schedule ? schedule : { at: '00:00' };
  const rhythm =
    schedule.every === 'hand' || copy.rhythm === 'every'
      ? schedule
      : copy.rhythm === 'day'
        ? { every: 'day' as const, at }
        : { every: 'week' as const, days: [7], at };
  return { zone, schedule: rhythm, closed, keep: copy.keep, lockDays: copy.lockDays ?? 0 };
}

/** The rules of a policy that put points on a target. */
function rulesOn(body: PolicyBody, measures: PolicyMeasures, targetId: string): RuleThere[] {
  const scheduleOf = ({ no, schedule }: PolicyRule): Schedule =>
    (schedule.every === 'after' ? measures.schedules.find((s) => s.rule === no)?.schedule : undefined) ?? schedule;
  const heavier: PolicyRule[] = [];
  // a log stands as its newest point
  const rules = heaviestFirst(body.rules).filter((r) => r.kind !== 'log');
  return rules.flatMap((rule) => {
    const takers = heavier.filter((r) => takesFor(r, rule));
    heavier.push(rule);
    const yieldsTo = takers.map((r) => ({ zone: body.zone, closed: body.closed, schedule: scheduleOf(r) }));
    const simulated = ruleOn(body, rule, scheduleOf(rule), targetId);
    return simulated ? [{ no: rule.no, simulated: { ...simulated, yieldsTo } }] : [];
  });
}

/** Lives the rules of a policy on a target; undefined where it has none there. What points are there already go by the rule that made them, or by the first. */
function lived(rules: readonly RuleThere[], target: PolicyMeasures['targets'][number], now: number, days: number): Course | undefined {
  if (!rules.length) return undefined;
  const workloads = target.workloads.map((w): MeasuredWorkload => {
    const rows = rules.map((): number[] => []);
    for (const { rule, at } of w.moments)
      rows[
        Math.max(
          0,
          rules.findIndex((r) => r.no === rule),
        )
      ]!.push(...at);
    return { ...w, moments: rows.map((row) => row.sort((a, b) => a - b)) };
  });
  return simulate(
    workloads,
    rules.map((r) => r.simulated),
    now,
    days,
  );
}

/** Lives the draft, and what is in force, on every target the draft uses. */
export function simulateAll({ measures, draft, inForce, days }: SimulationJob): TargetOutlook[] {
  return measures.targets.flatMap((target) => {
    const course = lived(rulesOn(draft, measures, target.targetId), target, measures.now, days);
    if (!course) return [];
    const before = inForce ? lived(rulesOn(inForce, measures, target.targetId), target, measures.now, days) : undefined;
    return [{ target, draft: course, inForce: before ?? null }];
  });
}
