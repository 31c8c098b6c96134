import { formatDuration } from '@lithodex/core';
import type { FoundMatter, StepWent } from '@lithodex/contract';
import { newestRuns, stepsWent, tookOf, type SequenceRunRecord } from '../../records/recover/sequence-rows';
import type { Deps } from '../deps';

/** Sequences that did not come back when they were tried last, and those that were started and stand still until somebody decides. */
export async function sequenceMatters({ db }: Deps): Promise<FoundMatter[]> {
  const living = new Set((await db('restore_sequence').where({ removed: false }).select<{ id: number }[]>('id')).map((s) => s.id));
  const failed = async (trial: boolean) =>
    [...(await newestRuns(db, trial)).values()].filter((r) => r.state === 'failed' && living.has(r.sequence_id));
  return [
    ...(await failed(false)).map((run) => matter(run, 'fault', `The sequence ${run.name} waits for a decision`)),
    ...(await failed(true)).map((run) => matter(run, 'warning', `The sequence ${run.name} did not come back when it was tried`)),
  ];
}

const matter = (run: SequenceRunRecord, level: FoundMatter['level'], title: string): FoundMatter => ({
  id: `sequence-${run.trial ? 'trial' : 'real'}-${run.sequence_id}`,
  level,
  title: title.slice(0, 160),
  text: whyNot(run),
  since: run.ended_at ?? run.at,
  action: { label: 'See how it went', link: `/recover/sequences/went/${run.id}`, query: {} },
  second: { label: 'Sequences', link: '/recover/sequences', query: {} },
});

/** What kept it from coming back: the first step that failed, or that all of it took too long. */
function whyNot(run: SequenceRunRecord): string {
  const steps = stepsWent(run);
  const failed: StepWent | undefined = steps.find((s) => s.state === 'failed');
  if (failed) {
    const blocked = steps.filter((s) => s.state === 'blocked').length;
    return `${failed.name}: ${failed.says}${blocked ? ` ${blocked === 1 ? 'One step' : `${blocked} steps`} after it did not begin.` : ''}`;
  }
  return `It took ${formatDuration(tookOf(run.at, steps) ?? 0)}, where ${formatDuration(run.objective_ms ?? 0)} were wanted.`;
}
