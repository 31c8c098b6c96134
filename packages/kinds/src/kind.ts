import type { z } from 'zod';

/** What every kind of workload says of itself, as data: all else about it is in its connector and in the screens that are its own. */
export interface Kind {
  /** Stored with workloads, points and roots: never changed. */
  readonly name: string;
  /** What one is called. */
  readonly noun: string;
  /** What a group of them is called. */
  readonly group: string;
  /** What the changes of a point are counted in. */
  readonly changesIn: 'files' | 'blocks';
  /** What is there now can be compared with a point, item by item. */
  readonly compares: boolean;
  /** Its items hold trees of their own, as disks do. */
  readonly opens: boolean;
  /** It writes a log of its changes, which can be taken by itself. */
  readonly logs: boolean;
  /** Where a mover finds one, and how it is read: with what opens it, so it goes to movers only. Its `kind` is the name. */
  readonly from: z.ZodType<{ kind: string }>;
  /** Where points of it can be restored to, other than as a download. */
  readonly to: z.ZodType<{ kind: string }>;
}
