import { z } from 'zod';
import { NetworkCard } from './server';
import { Bytes, Count } from './values';

const Text = z.string().max(400);
export const UnitName = z.string().regex(/^[A-Za-z0-9][\w.-]{0,79}$/, 'letters, digits, ., - and _');

/** A disk of a unit. Its id is its serial, or where it is plugged in: the number that a kernel gives it may be another one after every start. */
export const UnitDisk = z.object({
  id: z.string().min(1).max(80),
  bytes: Bytes,
  serial: Text,
  model: Text,
  port: Text,
  /** The machine starts from it first. */
  first: z.boolean(),
  /** What is on it now, in words; '' for nothing. */
  holds: Text,
});
export type UnitDisk = z.infer<typeof UnitDisk>;

/** What a machine says of itself that was started from a recovery medium. */
export const UnitFacts = z.object({
  firmware: z.enum(['uefi', 'bios']),
  architecture: Text,
  processor: Text,
  cores: Count,
  memory: Bytes,
  disks: z.array(UnitDisk).max(64),
  cards: z.array(NetworkCard).max(64),
  controllers: z.array(z.object({ name: Text, driver: Text })).max(64),
  /** Its clock when it said so, in ms. */
  clock: z.number(),
});
export type UnitFacts = z.infer<typeof UnitFacts>;

const For = z.union([z.strictObject({ volume: Text }), z.strictObject({ loader: z.enum(['bios', 'uefi']) })]);
/** Partitions that are to be made on a disk of a unit. */
export const UnitLayout = z.object({
  disk: UnitDisk.shape.id,
  table: z.enum(['gpt', 'mbr']),
  partitions: z.array(z.object({ no: z.int().min(1).max(128), start: Bytes, bytes: Bytes, for: For })).max(128),
});
export type UnitLayout = z.infer<typeof UnitLayout>;

/** A server made anew on a unit. */
export const UnitPlace = z.object({
  to: z.literal('unit'),
  unit: UnitName,
  /** Where its volumes go; null for what is proposed. */
  layout: z.array(UnitLayout).min(1).max(64).nullable().default(null),
  /** Disks that are not empty and may be erased. */
  erase: z.array(UnitDisk.shape.id).max(64).default([]),
  /** With the identities of its disks and volumes; otherwise with new ones, as a clone has. */
  asItself: z.boolean().default(true),
});

export const UnitTo = z.object({
  name: UnitName,
  firmware: z.enum(['uefi', 'bios']),
  /** As they were when it was decided. */
  disks: z.array(UnitDisk).max(64),
  layout: z.array(UnitLayout).max(64),
  asItself: z.boolean(),
});
export type UnitTo = z.infer<typeof UnitTo>;
