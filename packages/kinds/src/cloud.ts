import { z } from 'zod';
import { Bytes, Count, Id, Name } from './values';

const Price = z.number().min(0).max(1e9);
const Quota = z.object({ instances: Count, processors: Count, bytes: Bytes });

/** What can be had in a cloud, and what of it may be: as it said last. */
export const CloudOffers = z.object({
  /** As ISO 4217 names it. */
  currency: z.string().regex(/^[A-Z]{3}$/),
  /** Of an address that can be reached from everywhere. */
  addressPerMonth: Price,
  /** `memory`: MB. */
  sizes: z.array(z.object({ name: z.string().max(100), processors: Count, memory: Count, perHour: Price })).max(2000),
  classes: z.array(z.object({ name: z.string().max(100), perGBMonth: Price, regions: z.array(z.string().max(100)).max(200) })).max(100),
  regions: z
    .array(
      z.object({
        name: z.string().max(100),
        /** Where on earth it is. */
        place: z.string().max(200),
        networks: z.array(z.object({ name: z.string().max(200), isolated: z.boolean() })).max(1000),
        groups: z.array(z.string().max(200)).max(1000),
        quota: Quota,
        used: Quota,
      }),
    )
    .max(200),
});
export type CloudOffers = z.infer<typeof CloudOffers>;

/** What a cloud says of an instance, beyond what any platform says of a machine; `address`: one that can be reached from everywhere. */
export const InstanceFacts = z.object({ size: z.string(), address: z.string().nullable(), groups: z.array(z.string()) });

/** A new instance in a cloud, or its volumes alone, sent ahead of it. */
export const CloudDestination = z.object({
  to: z.literal('cloud'),
  name: z.string(),
  region: z.string(),
  size: z.string(),
  network: z.string(),
  /** Groups that the region does not have are made. */
  groups: z.array(z.string()),
  publicAddress: z.boolean(),
  /** Class by label of the disk; `class` for the others. */
  classes: z.record(z.string(), z.string()),
  class: z.string(),
  /** Labels of disks that stay behind. */
  leaveOut: z.array(z.string()),
  tags: z.array(z.string()),
  start: z.boolean(),
  /** Only the volumes: what they hold is not sent again when the instance is made of them. */
  ahead: z.boolean(),
  /** It is for a trial: no policy takes it, and the server has it removed after so many hours. */
  hours: z.int().nullable().default(null),
  /** Of a restore that is repeated: the instance that the time before has made makes way once the new one is whole. */
  round: z.object({ id: z.uuid(), before: z.string().nullable() }).optional(),
});
export type CloudDestination = z.infer<typeof CloudDestination>;

/** Where machines go that are put into a cloud: for all of them, and what is different for one, by its point. */
export const CloudPlace = z.object({
  to: z.literal('cloud'),
  platformId: Id,
  region: Name,
  /** Null takes the cheapest that has as many processors and as much memory as the machine had. */
  size: Name.nullable().default(null),
  network: Name,
  groups: z.array(Name).max(50).default([]),
  publicAddress: z.boolean().default(false),
  class: Name,
  /** Beside those the machine had. */
  tags: z.array(Name).max(50).default([]),
  /** Put behind the names. */
  suffix: z.string().trim().max(40).default(''),
  ahead: z.boolean().default(false),
  /** For a trial: it is removed after so many hours, with its disks; null for one that stays. */
  hours: z.int().min(1).max(720).nullable().default(null),
  exceptions: z
    .array(
      z.object({
        pointId: z.uuid(),
        name: Name.optional(),
        size: Name.optional(),
        /** By label of the disk. */
        classes: z.record(z.string(), Name).optional(),
        leaveOut: z.array(z.string().max(200)).max(100).optional(),
      }),
    )
    .max(500)
    .default([]),
});

/** Over the disks of a machine that is there, another one than the point was taken of: only what differs is written. */
export const OverPlace = z.object({ to: z.literal('over'), workloadId: Id });
