import { z } from 'zod';
import { Bytes, Count, Id, Instant, Name } from './common';

const Pem = z
  .string()
  .trim()
  .max(20_000)
  .regex(/^-----BEGIN [A-Z ]+-----/, 'text that begins with -----BEGIN');
/** What opens a platform: goes to movers, never to a browser. */
export const PlatformOpener = z.discriminatedUnion('by', [
  z.object({ by: z.literal('password'), account: Name, password: z.string().min(1).max(400) }),
  z.object({ by: z.literal('certificate'), certificate: Pem, key: Pem }),
]);
export type PlatformOpener = z.infer<typeof PlatformOpener>;

/** `id`: the source it is kept as; null while it is not kept yet. */
export const PlatformRef = z.object({ id: Id.nullable(), endpoint: z.string().max(300), opener: PlatformOpener });
export type PlatformRef = z.infer<typeof PlatformRef>;

/** A virtualization platform to connect. `opener` is null to leave it as it is. */
export const PlatformBody = z.object({
  name: Name,
  endpoint: z.url({ protocol: /^https?$/ }).max(300),
  opener: PlatformOpener.nullable(),
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
  passwordEnds: Instant.nullable(),
  /** When the inventory was read last; null while it was not. */
  readAt: Instant.nullable(),
  trouble: z.string().nullable(),
  machines: Count,
  readers: Count.nullable(),
});
export type Platform = z.infer<typeof Platform>;

const MachineDiskFacts = z.object({ id: z.string(), label: z.string(), size: Bytes, storage: z.string() });
/** What the platform says of a machine. */
export const MachineFacts = z.object({
  cluster: z.string(),
  location: z.string(),
  host: z.string(),
  /** Path like `/Harbour/Gates`. */
  folder: z.string(),
  networks: z.array(z.string()),
  template: z.boolean(),
  running: z.boolean(),
  /** Something inside can bring programs to rest. */
  helper: z.boolean(),
  system: z.string(),
  processors: Count,
  /** MB. */
  memory: Count,
  disks: z.array(MachineDiskFacts),
});
export type MachineFacts = z.infer<typeof MachineFacts>;

/** What a point of a machine says of it: where it was, how quiet, and which item each disk is ('' where it was left out; byte string). */
export const MachinePoint = z.object({
  level: z.enum(['crash', 'application']),
  name: z.string(),
  cluster: z.string(),
  location: z.string(),
  host: z.string(),
  folder: z.string(),
  networks: z.array(z.string()),
  tags: z.array(z.string()),
  disks: z.array(MachineDiskFacts.extend({ file: z.string() })),
});
export type MachinePoint = z.infer<typeof MachinePoint>;

/** One machine as a mover found it. */
export const FoundMachine = MachineFacts.extend({ id: z.string().max(80), name: z.string(), tags: z.array(z.string()) });
export type FoundMachine = z.infer<typeof FoundMachine>;

/** Where machines can be put. */
export const PlatformPlaces = z.object({
  clusters: z.array(z.object({ name: z.string(), location: z.string(), hosts: z.array(z.string()), networks: z.array(z.string()) })),
  storages: z.array(z.object({ name: z.string(), capacity: Bytes, used: Bytes, hosts: z.array(z.string()) })),
  folders: z.array(z.string()),
});
export type PlatformPlaces = z.infer<typeof PlatformPlaces>;
export const Inventory = PlatformPlaces.omit({ folders: true }).extend({ machines: z.array(FoundMachine) });
export type Inventory = z.infer<typeof Inventory>;

/** An account of the system inside a machine: goes to movers, never to a browser. */
export const InsideAccount = z.object({ name: Name, password: z.string().min(1).max(400) });
export type InsideAccount = z.infer<typeof InsideAccount>;
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
