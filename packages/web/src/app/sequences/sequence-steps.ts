import type { SequencePart, SequenceRun, SequenceStep, StepRestore, StepState, StepWent } from '@lithodex/contract';
import { sequenceTimes } from '@lithodex/core';
import type { Mark } from '../ui/state-mark';

const minuteMs = 60_000;

/** Names a part in slots and addresses. */
export const keyOf = ({ by, id }: StepRestore): string => `${by}-${id}`;

export function restoreOf(key: string): StepRestore {
  const [by, id] = key.split('-');
  return { by: by === 'standing' ? 'standing' : 'workload', id: Number(id) };
}

/** Steps with one more at the end, which waits for the one before it. */
export const withStep = (steps: readonly SequenceStep[], restore: StepRestore): SequenceStep[] => [
  ...steps,
  { restore, after: steps.length ? [steps.length - 1] : [], wait: 0 },
];

/** Steps without one; what waited for it waits for what it waited for. */
export function withoutStep(steps: readonly SequenceStep[], gone: number): SequenceStep[] {
  const instead = steps[gone]!.after;
  const after = (own: readonly number[]) =>
    [...new Set(own.flatMap((j) => (j === gone ? instead : [j])))].map((j) => (j > gone ? j - 1 : j)).sort((a, b) => a - b);
  return steps.flatMap((s, i) => (i === gone ? [] : [{ ...s, after: after(s.after) }]));
}

/** Whether a step can change places with the one before it: not where it waits for that. */
export const canRise = (steps: readonly SequenceStep[], i: number): boolean => i > 0 && !steps[i]!.after.includes(i - 1);

/** Steps with one in the place before; what waits for either still does. */
export function withRisen(steps: readonly SequenceStep[], i: number): SequenceStep[] {
  if (!canRise(steps, i)) return [...steps];
  const place = (j: number) => (j === i ? i - 1 : j === i - 1 ? i : j);
  const moved = steps.map((s) => ({ ...s, after: s.after.map(place).sort((a, b) => a - b) }));
  const risen = moved[i]!;
  return moved.toSpliced(i, 1).toSpliced(i - 1, 0, risen);
}

/** Steps where one waits for another before it, or does not any more. */
export function withWaiting(steps: readonly SequenceStep[], i: number, j: number): SequenceStep[] {
  const { after } = steps[i]!;
  const now = after.includes(j) ? after.filter((k) => k !== j) : [...after, j].sort((a, b) => a - b);
  return steps.map((s, k) => (k === i ? { ...s, after: now } : s));
}

/** A step drawn over time: ms from the begin; null where nobody knows. */
export interface Lane {
  readonly name: string;
  readonly beginMs: number | null;
  readonly endMs: number | null;
  readonly mark: Mark | null;
}

/** How a sequence would go, by what its steps took before. */
export function expectedLanes(steps: readonly SequenceStep[], parts: ReadonlyMap<string, SequencePart>): Lane[] {
  const of = steps.map((s) => parts.get(keyOf(s.restore)));
  const times = sequenceTimes(steps.map((s, i) => ({ after: s.after, waitMs: s.wait * minuteMs, takesMs: of[i]?.takesMs ?? null })));
  return times.map((t, i) => ({ ...t, name: of[i]?.name ?? 'what is gone', mark: null }));
}

/** How a time of a sequence went until `now`. */
export function wentLanes({ at, steps }: SequenceRun, now: number): Lane[] {
  return steps.map(({ name, beganAt, endedAt, state }) => ({
    name,
    beginMs: beganAt === null ? null : beganAt - at,
    endMs: beganAt === null ? null : (endedAt ?? now) - at,
    mark: stepMark(state),
  }));
}

const marks: Record<StepState, Mark> = {
  waiting: 'waiting',
  running: 'running',
  back: 'done',
  failed: 'failed',
  blocked: 'notStarted',
  passedOver: 'remarks',
  stopped: 'stopped',
};
export const stepMark = (state: StepState): Mark => marks[state];

const words: Record<StepState, string> = {
  waiting: 'waits',
  running: 'being brought back',
  back: 'back',
  failed: 'failed',
  blocked: 'did not begin',
  passedOver: 'went on without it',
  stopped: 'stopped',
};
export const stepWord = (state: StepState): string => words[state];

/** What a step waits for: "at once", "after 1 and 2, and 5 minutes". */
export function waitWords({ after, wait }: Pick<StepWent, 'after' | 'wait'>): string {
  const minutes = wait ? `${wait} min` : '';
  if (!after.length) return minutes ? `after ${minutes}` : 'at once';
  const numbers = after.map((j) => String(j + 1));
  const list = numbers.length === 1 ? numbers[0]! : `${numbers.slice(0, -1).join(', ')} and ${numbers.at(-1)!}`;
  return `after ${list}${minutes ? `, then ${minutes}` : ''}`;
}
