import { z } from 'zod';

export const runStates = [
  'waiting',
  'running',
  'done',
  'remarks',
  'partsMissing',
  'failed',
  'held',
  'stopped',
  'cutOff',
  'notStarted',
] as const;
export const RunState = z.enum(runStates);
export type RunState = z.infer<typeof RunState>;

/** The states of runs in the words of screen and command line. */
export const runStateWords: Readonly<Record<RunState, string>> = {
  waiting: 'waiting',
  running: 'running',
  done: 'done',
  remarks: 'done with remarks',
  partsMissing: 'parts missing',
  failed: 'failed',
  held: 'held',
  stopped: 'stopped',
  cutOff: 'cut off',
  notStarted: 'not started',
};
