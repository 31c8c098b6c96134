import type { BodyInput } from '@lithodex/contract';
import type { policies } from './harbour/story';

type StoryPolicy = (typeof policies)[number];
type Schedule = BodyInput<'addPolicy'>['rules'][number]['schedule'];

/** On so many days of a week servers are protected while it is a trial. */
const trialDays = [1, 3, 5, 7];
const inTrial = (schedule: Schedule): Schedule =>
  schedule.every === 'day' ? { every: 'week', days: trialDays, at: schedule.at } : schedule;

/** Rules of a policy of the story beside its first. */
export const furtherOf = (policy: StoryPolicy) => ('further' in policy ? policy.further : []);

/** A policy of the story as it is sent: `workloads` by name, `copyTargets` by name; `trial`: as it is at first. */
export function policyBody(
  p: StoryPolicy,
  workloads: ReadonlyMap<string, number>,
  targetId: string,
  copyTargets: Readonly<Record<string, string>>,
  zone: string,
  trial: boolean,
): BodyInput<'addPolicy'> {
  const scheduleOf = (schedule: unknown) => (trial ? inTrial(schedule as Schedule) : (schedule as Schedule));
  return {
    name: p.name,
    workloads: p.servers.map((name) => workloads.get(name)!),
    tags: [...p.tags],
    rules: [
      {
        no: 1,
        kind: p.kind,
        synthetic: 'synthetic' in p ? p.synthetic : null,
        schedule: scheduleOf(p.schedule),
        keep: p.keep,
        targetId,
        copies: p.copies.map(({ to, ...c }) => ({ ...c, targetId: copyTargets[to]! })),
      },
      ...furtherOf(p).map((rule) => ({ ...rule, schedule: scheduleOf(rule.schedule), copies: [], targetId })),
    ],
    zone,
    ...(p.times as Pick<BodyInput<'addPolicy'>, 'window' | 'closed' | 'priority'>),
    exclude: [...p.exclude],
    changeLimit: p.changeLimit,
    objectiveHours: trial ? 80 : p.schedule.every === 'week' && !furtherOf(p).length ? 120 : 26,
  };
}
