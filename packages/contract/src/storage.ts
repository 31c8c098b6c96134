import { z } from 'zod';
import { Bytes, Count, Id, Instant, Named, Uuid } from './common';
import { Target } from './estate';
import { Schedule } from './policy';
import { PriceTable } from './prices';

const Use = z.object({ name: z.string(), id: Id.nullable(), points: Count, stored: Bytes, bytes: Bytes });
export type Use = z.infer<typeof Use>;

/** One target: its room over time, what uses it, what it costs. */
export const TargetDetail = Target.extend({
  /** Measured room, oldest first, at most one for each few hours. */
  samples: z.array(z.object({ at: Instant, used: Bytes })),
  /** Bytes as they were written when the points were taken, by what they were written for; data that several share counts for the first. */
  use: z.object({ workloads: z.array(Use), policies: z.array(Use), ages: z.array(Use) }),
  /** Points that stand on no other target. */
  onlyHere: Count,
  /** Copies that were taken over with it and stay until two people let the policies decide. */
  takenOver: Count,
  locked: z.object({ points: Count, until: Instant.nullable() }),
  /** Bytes of the points that were taken less than the table's least days ago. */
  young: z.array(z.object({ days: z.number(), stored: Bytes })),
});
export type TargetDetail = z.infer<typeof TargetDetail>;

/** A cartridge of a set. */
export const Cartridge = z.object({
  barcode: z.string(),
  /** Place in the order in which the set was written, from 1; null for an empty one. */
  number: Count.nullable(),
  /** In words: "drive 1", "slot 4", "on the shelf". */
  where: z.string(),
  /** Whether the library reaches it. */
  here: z.boolean(),
  capacity: Bytes.nullable(),
  used: Bytes,
  /** Bytes on it that still count. */
  live: Bytes,
  writeProtected: z.boolean(),
  /** Nothing on it counts any more: it is erased and used again when an empty one is wanted. */
  spent: z.boolean(),
});
export type Cartridge = z.infer<typeof Cartridge>;

/** Where the points of each workload stand. */
export const CopiesMatrix = z.object({
  targets: z.array(z.object({ id: Uuid, name: z.string() })),
  rows: z.array(
    z.object({
      workload: Named,
      cells: z.array(z.object({ points: Count, newest: Instant.nullable(), oldest: Instant.nullable(), lockedUntil: Instant.nullable() })),
    }),
  ),
});
export type CopiesMatrix = z.infer<typeof CopiesMatrix>;

/** What a policy's simulation starts from, for each target it writes or copies to. */
export const PolicyMeasures = z.object({
  now: Instant,
  /** When the rules of the policy run, by number, as far as that is known ahead: one that follows another policy has the other's times. */
  schedules: z.array(z.object({ rule: z.int(), schedule: Schedule })),
  targets: z.array(
    z.object({
      targetId: Uuid,
      name: z.string(),
      used: Bytes.nullable(),
      free: Bytes.nullable(),
      prices: PriceTable.nullable(),
      /** Of what is used there, what this policy's points took. */
      usedByPolicy: Bytes,
      workloads: z.array(
        z.object({
          id: Id,
          /** Of its points there, by the rule of this policy that decides over them. */
          moments: z.array(z.object({ rule: z.int(), at: z.array(Instant) })),
          stored: Bytes,
          newPerDay: z.number(),
          growthPerDay: z.number(),
          measured: z.boolean(),
        }),
      ),
    }),
  ),
});
export type PolicyMeasures = z.infer<typeof PolicyMeasures>;
