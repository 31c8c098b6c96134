import { z } from 'zod';
import { CloudOffers, DataWay, MachineFacts, MachinePoint, PlatformFamily, PlatformOpener } from '@lithodex/kinds';
import { Bytes, Count, Id, Instant, Name } from './common';

export { InsideAccount, MachineFacts, MachinePoint, PlatformOpener, PlatformRef } from '@lithodex/kinds';

/** A virtualization platform to connect. `opener` is null to leave it as it is. */
export const PlatformBody = z.object({
  name: Name,
  endpoint: z.url({ protocol: /^https?$/ }).max(300),
  opener: PlatformOpener.nullable(),
  /** How the data of whole machines goes. */
  way: DataWay.default('network'),
  /** Hosts of one's own, or a cloud. */
  family: PlatformFamily.default('hosts'),
});
export type PlatformBody = z.infer<typeof PlatformBody>;

/** `account` and the end of its password or certificate are what the platform said. */
export const PlatformTest = z.object({
  ok: z.boolean(),
  message: z.string(),
  account: z.string(),
  passwordEnds: Instant.nullable(),
  machines: Count,
  needs: z.array(z.object({ right: z.string(), neededFor: z.string(), missing: z.boolean() })),
});
export type PlatformTest = z.infer<typeof PlatformTest>;

export const Platform = z.object({
  id: Id,
  name: z.string(),
  endpoint: z.string(),
  by: z.enum(['password', 'certificate']),
  account: z.string(),
  way: DataWay.default('network'),
  family: PlatformFamily.default('hosts'),
  passwordEnds: Instant.nullable(),
  /** When the inventory was read last; null while it was not. */
  readAt: Instant.nullable(),
  trouble: z.string().nullable(),
  machines: Count,
  readers: Count.nullable(),
});
export type Platform = z.infer<typeof Platform>;

/** One machine as a mover found it. */
export const FoundMachine = MachineFacts.extend({ id: z.string().max(80), name: z.string(), tags: z.array(z.string()) });
export type FoundMachine = z.infer<typeof FoundMachine>;

/** A machine in a snapshot of a storage: what a point of it says, and the bytes of its disks there. */
const FoundInSnapshot = z.object({ id: z.string().max(80), bytes: Bytes, machine: MachinePoint });
/** A snapshot that a storage keeps of all its disks. */
export const FoundSnapshot = z.object({
  id: z.string().max(200),
  storage: z.string().max(200),
  name: z.string().max(200),
  takenAt: Instant,
  machines: z.array(FoundInSnapshot).max(20_000),
});
export type FoundSnapshot = z.infer<typeof FoundSnapshot>;

/** Where machines can be put. */
export const PlatformPlaces = z.object({
  clusters: z.array(
    z.object({
      name: z.string(),
      location: z.string(),
      hosts: z.array(z.string()),
      networks: z.array(z.string()),
      /** Networks that lead nowhere else. */ isolated: z.array(z.string()).default([]),
    }),
  ),
  storages: z.array(z.object({ name: z.string(), capacity: Bytes, used: Bytes, hosts: z.array(z.string()) })),
  folders: z.array(z.string()),
  /** Of a cloud: what can be had there. */
  cloud: CloudOffers.nullable().default(null),
});
export type PlatformPlaces = z.infer<typeof PlatformPlaces>;
export const Inventory = PlatformPlaces.omit({ folders: true }).extend({
  machines: z.array(FoundMachine),
  snapshots: z.array(FoundSnapshot).max(5000).default([]),
  /** What names of machines may be. */
  naming: z.object({ most: Count, forbidden: z.string() }).default({ most: 1000, forbidden: '' }),
});
export type Inventory = z.infer<typeof Inventory>;

/** What came of signing in to the system inside a machine. */
export const InsideTest = z.object({ ok: z.boolean(), message: z.string() });
export type InsideTest = z.infer<typeof InsideTest>;

export const ReadAnew = z.object({ machines: Count, fresh: Count, gone: Count, moved: Count });
export type ReadAnew = z.infer<typeof ReadAnew>;

/** Something that became different in the estate. */
export const EstateChange = z.object({
  id: Id,
  at: Instant,
  workload: z.object({ id: Id, name: z.string() }),
  what: z.enum(['new', 'gone', 'moved', 'renamed']),
  detail: z.string(),
});
export type EstateChange = z.infer<typeof EstateChange>;
