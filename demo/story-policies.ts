import type { BodyInput } from '@lithodex/contract';
import type { policies } from './harbour/story';

type StoryPolicy = (typeof policies)[number];

/** Rules of a policy of the story beside its first. */
export const furtherOf = (policy: StoryPolicy) => ('further' in policy ? policy.further : []);

/** A policy of the story as it is sent: `workloads` by name, `copyTargets` by name. */
export function policyBody(
  p: StoryPolicy,
  workloads: ReadonlyMap<string, number>,
  targetId: string,
  copyTargets: Readonly<Record<string, string>>,
  zone: string,
): BodyInput<'addPolicy'> {
  return {
    name: p.name,
    workloads: p.servers.map((name) => workloads.get(name)!),
    tags: [...p.tags],
    rules: [
      {
        no: 1,
        kind: p.kind,
        synthetic: 'synthetic' in p ? p.synthetic : null,
        schedule: p.schedule as BodyInput<'addPolicy'>['rules'][number]['schedule'],
        keep: p.keep,
        targetId,
        copies: p.copies.map(({ to, ...c }) => ({ ...c, targetId: copyTargets[to]! })),
      },
      ...furtherOf(p).map((rule) => ({ ...rule, copies: [], targetId })),
    ],
    zone,
    ...(p.times as Pick<BodyInput<'addPolicy'>, 'window' | 'closed' | 'priority'>),
    exclude: [...p.exclude],
    changeLimit: p.changeLimit,
    objectiveHours: p.schedule.every === 'week' && !furtherOf(p).length ? 120 : 26,
  };
}
