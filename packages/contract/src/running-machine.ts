import { z } from 'zod';
import { Bytes, Name } from './common';

/** Bytes a second; null for as fast as it goes. */
const CopyPace = z.number().min(1024).nullable();

/** What a person wants of a machine that runs from the store. */
export const MachineWish = z.discriminatedUnion('to', [
  /** Go on as it is. */
  z.object({ to: z.literal('run') }),
  /** Copy its disks to a storage while it goes on. */
  z.object({ to: z.literal('copy'), storage: Name, pace: CopyPace }),
  /** Once all is copied, leave the store: while it runs, or stopped for a moment. */
  z.object({ to: z.literal('cutOver'), storage: Name, pace: CopyPace, stopped: z.boolean() }),
  /** Take it away, with what it wrote. */
  z.object({ to: z.literal('drop') }),
]);
export type MachineWish = z.infer<typeof MachineWish>;

/** How a machine that runs from the store does. */
export const RunningMachine = z.object({
  state: z.enum(['starting', 'running', 'copying', 'copied', 'cuttingOver', 'dropping']),
  /** What the platform calls it; '' until it is there. */
  machine: z.string().max(200),
  /** `storage`: where it is copied to, '' for nowhere. */
  disks: z
    .array(z.object({ label: z.string().max(200), size: Bytes, storage: z.string().max(200), copied: Bytes, toCopy: Bytes }))
    .max(1000),
  /** What it wrote since it was started, and the most there is room for. */
  overlay: z.object({ used: Bytes, most: Bytes }),
  /** What stands in the way now; '' for nothing. */
  problem: z.string().max(2000),
});
export type RunningMachine = z.infer<typeof RunningMachine>;
