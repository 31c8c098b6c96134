import type { moverDuties } from './duties';
import type { Work } from './work';

/** What a mover can be asked to do, one task at a time. */
export type WorkType = Work['type'];

/** What the queue and the movers have to know of a type of task, whatever it does. */
export interface TaskType {
  /** What the token of a mover must entitle it to. */
  readonly duties: readonly (typeof moverDuties)[number][];
  /** A person waits for it: it goes before all others, and no limit for all holds it up. */
  readonly urgent: boolean;
  /** It reads a source, near which it is best done, and counts among its readers. */
  readonly readsSource: boolean;
  /** It counts among the writers of its target. */
  readonly writesTarget: boolean;
  /** It shares the pace that is allowed for its target. */
  readonly paced: boolean;
  /** It adds points to a series or takes some away: one at a time does. */
  readonly changesSeries: boolean;
  /** Nobody may prune what it reads on targets meanwhile. */
  readonly pins: boolean;
  /** Another mover goes on with it when its own is lost. */
  readonly resumes: boolean;
  /** It goes on for hours and does little: it takes no place of other work. */
  readonly stays: boolean;
  /** It is about a target, not about workloads. */
  readonly aboutTarget: boolean;
}

const usual: TaskType = {
  duties: ['keep'],
  urgent: false,
  readsSource: false,
  writesTarget: false,
  paced: false,
  changesSeries: false,
  pins: false,
  resumes: true,
  stays: false,
  aboutTarget: false,
};

/** All types of task. */
export const taskTypes: Readonly<Record<WorkType, TaskType>> = {
  backup: { ...usual, duties: ['capture', 'keep'], readsSource: true, writesTarget: true, paced: true, changesSeries: true },
  trial: { ...usual, duties: ['capture', 'keep'], readsSource: true, resumes: false },
  restore: { ...usual, duties: ['capture', 'keep'], urgent: true, pins: true },
  download: { ...usual, urgent: true, pins: true, resumes: false },
  attach: { ...usual, urgent: true, pins: true, stays: true },
  runMachine: { ...usual, duties: ['capture', 'keep'], urgent: true, pins: true, stays: true },
  copy: { ...usual, writesTarget: true, paced: true, pins: true },
  verify: { ...usual, paced: true, pins: true, aboutTarget: true },
  scan: { ...usual, pins: true },
  drill: { ...usual, duties: ['capture', 'keep'], pins: true },
  adopt: { ...usual, pins: true, aboutTarget: true },
  expire: { ...usual, duties: ['prune'], changesSeries: true },
  prune: { ...usual, duties: ['prune'], aboutTarget: true },
};

const all = Object.keys(taskTypes) as WorkType[];

/** The types of task that are so. */
export function typesThat(is: (type: TaskType) => boolean): WorkType[] {
  return all.filter((type) => is(taskTypes[type]));
}
