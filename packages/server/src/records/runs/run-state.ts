import type { RunState } from '@lithodex/contract';

const worstFirst: readonly RunState[] = ['failed', 'held', 'partsMissing', 'cutOff', 'stopped', 'notStarted', 'remarks', 'done'];

/** State of a run from the states of its tasks. */
export function runStateOf(tasks: readonly RunState[]): RunState {
  if (tasks.some((s) => s === 'running')) return 'running';
  if (tasks.every((s) => s === 'waiting')) return 'waiting';
  if (tasks.some((s) => s === 'waiting')) return 'running';
  return worstFirst.find((state) => tasks.includes(state)) ?? 'done';
}

/** Ends of a run that made the points it was to make, or some. */
export const madePoints: readonly RunState[] = ['done', 'remarks', 'partsMissing', 'held'];
