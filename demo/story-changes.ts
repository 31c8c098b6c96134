import type { Answered } from '@lithodex/contract';
import type { StoryPeople } from './story-people';

/** In the last morning somebody wants to keep less, which a second person has to agree to. */
export async function asksForLess(people: StoryPeople): Promise<void> {
  const { rows } = await people.get<Answered<'listPolicies'>>('sten.odda', 'listPolicies');
  const gates = rows.find((p) => p.body.name.startsWith('Gates'))!;
  const rules = gates.body.rules.map((r) => ({ ...r, keep: { by: 'points' as const, points: 20 } }));
  await people.call('sten.odda', 'changePolicy', gates.id, { ...gates.body, rules });
}

/** A point is taken by hand before the plans are converted. */
export async function protectsBeforeChange(people: StoryPeople, quiet: () => Promise<void>): Promise<void> {
  const { workloads } = await people.get<Answered<'estate'>>('eva.vind', 'estate');
  const plans = workloads.find((w) => w.name === 'dredge-plans')!;
  await people.call('eva.vind', 'protectOnce', plans.id, {
    kind: 'incremental',
    keep: { by: 'hand' },
    note: 'before the plans are converted',
  });
  await quiet();
}
