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
