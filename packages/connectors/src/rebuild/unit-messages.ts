import { z } from 'zod';
import { ServerDisk, ServerVolume, UnitDisk, UnitLayout } from '@lithodex/kinds';

/** Types of frames from the mover that keeps to the unit. */
export const toUnit = { order: 1, volume: 2, data: 3, sums: 4, ended: 5, finish: 6 } as const;
/** Types of frames back. */
export const fromUnit = { ready: 1, phase: 2, alive: 3, done: 4, failed: 5 } as const;

/** What is to be made: sent first. */
export const Order = z.object({
  taskId: z.uuid(),
  firmware: z.enum(['uefi', 'bios']),
  /** As they were when it was decided: where they are otherwise now, nothing is written. */
  disks: z.array(UnitDisk).max(64),
  layout: z.array(UnitLayout).min(1).max(64),
  system: z.object({ disks: z.array(ServerDisk).max(64), volumes: z.array(ServerVolume).max(128) }),
  asItself: z.boolean(),
});
export type Order = z.infer<typeof Order>;

/** Begins the files of a volume, which follow as a tar archive; the owner and mode are those of its top folder. */
export const VolumeBegins = z.object({
  device: z.string().max(400),
  mode: z.int().min(0).max(0o7777),
  uid: z.int().nonnegative(),
  gid: z.int().nonnegative(),
});
/** Sums of files that were sent before: the path below the volume, a character a byte, and SHA-256 of the content in hexadecimal digits. */
export const Sums = z.array(z.tuple([z.string().max(200_000), z.string().length(64)])).max(10_000);
export const Phase = z.object({ name: z.string().max(40) });
export const Failed = z.object({ message: z.string().max(2000) });

/** The other one says something at least so often, ms; who is silent for as long as below is gone. */
export const aliveEveryMs = 3000;
export const silentMs = 60_000;
