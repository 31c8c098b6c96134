import { simulate, type Course, type MeasuredWorkload, type Schedule, type SimulatedRule } from '@lithodex/core';
import type { PolicyBody, PolicyMeasures } from '@lithodex/contract';

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

/** How a policy that runs at these times treats a target: as its first one, by a rule for copies, or not at all. */
function ruleFor(body: PolicyBody, schedule: Schedule, targetId: string): SimulatedRule | undefined {
  const { zone, closed } = body;
  if (body.targetId === targetId) return { zone, schedule, closed, keep: body.keep, lockDays: body.lockDays ?? 0 };
  const copy = body.copies.find((c) => c.targetId === targetId);
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

/** Lives the draft, and what is in force, on every target the draft uses. */
export function simulateAll({ measures, draft, inForce, days }: SimulationJob): TargetOutlook[] {
  const scheduleOf = ({ schedule }: PolicyBody): Schedule => (schedule.every === 'after' ? measures.schedule : schedule);
  return measures.targets.flatMap((target) => {
    const rule = ruleFor(draft, scheduleOf(draft), target.targetId);
    if (!rule) return [];
    const workloads: MeasuredWorkload[] = target.workloads;
    const before = inForce && ruleFor(inForce, scheduleOf(inForce), target.targetId);
    return [
      {
        target,
        draft: simulate(workloads, rule, measures.now, days),
        inForce: before ? simulate(workloads, before, measures.now, days) : null,
      },
    ];
  });
}
