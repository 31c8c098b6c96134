import { z } from 'zod';
import { CloudDestination, InstanceFacts } from './cloud';
import { conflictRules } from './files';
import type { Kind } from './kind';
import { Bytes, Count, Id, Name } from './values';

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

/** How the data of whole machines goes: through the platform, or between mover and storage where the mover sees it. */
export const DataWay = z.enum(['network', 'straight']);
export type DataWay = z.infer<typeof DataWay>;

/** What keeps the machines: hosts of one's own, or a cloud. Of a cloud, the account is the id of a client and the password its secret. */
export const PlatformFamily = z.enum(['hosts', 'cloud']);
export type PlatformFamily = z.infer<typeof PlatformFamily>;

/** `id`: the source it is kept as; null while it is not kept yet. */
export const PlatformRef = z.object({
  id: Id.nullable(),
  endpoint: z.string().max(300),
  opener: PlatformOpener,
  way: DataWay.default('network'),
  family: PlatformFamily.default('hosts'),
});
export type PlatformRef = z.infer<typeof PlatformRef>;

/** An account of the system inside a machine: goes to movers, never to a browser. */
export const InsideAccount = z.object({ name: Name, password: z.string().min(1).max(400) });
export type InsideAccount = z.infer<typeof InsideAccount>;

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
  /** What runs inside, where a helper tells. */
  services: z.array(z.string().max(120)).max(500).default([]),
  processors: Count,
  /** MB. */
  memory: Count,
  disks: z.array(MachineDiskFacts),
  /** Of an instance in a cloud. */
  cloud: InstanceFacts.nullable().default(null),
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

/** What a point tells of its machine; the rest nobody knows. */
export function machineOfPoint({ cluster, location, host, folder, networks, disks }: MachinePoint): MachineFacts {
  const unknown = { template: false, running: false, helper: false, system: '', services: [], processors: 0, memory: 0, cloud: null };
  return { cluster, location, host, folder, networks, ...unknown, disks: disks.map(({ file, ...disk }) => disk) };
}

/** A snapshot that a storage of a platform keeps. */
export const SnapshotAt = z.object({ storage: z.string().min(1).max(200), id: z.string().min(1).max(200) });
export type SnapshotAt = z.infer<typeof SnapshotAt>;

/** A machine of a virtualization platform. */
export const MachineFrom = z.object({
  kind: z.literal('machine'),
  platform: PlatformRef,
  id: z.string(),
  cluster: z.string(),
  location: z.string(),
  inside: InsideAccount.nullable(),
  /** A snapshot of its storage, which is read in its place. */
  snapshot: SnapshotAt.nullable().default(null),
});
export type MachineFrom = z.infer<typeof MachineFrom>;

/** Back into the machine the point was taken of, or a new one beside what there is. */
export const MachineDestination = z.discriminatedUnion('to', [
  /** `now`: what the platform calls it now, where that is not what it was called when the point was taken. */
  z.object({
    to: z.literal('original'),
    start: z.boolean(),
    now: z.string().nullable().default(null),
    removeFirst: z.boolean().default(false),
  }),
  z.object({
    to: z.literal('new'),
    name: z.string(),
    host: z.string(),
    folder: z.string(),
    /** Storage by label of the disk; `storage` for the others. */
    storages: z.record(z.string(), z.string()),
    storage: z.string(),
    networks: z.array(z.string()),
    start: z.boolean(),
    /** Of a restore that is repeated: the machine that the time before has made makes way once the new one is whole. */
    round: z.object({ id: z.uuid(), before: z.string().nullable() }).optional(),
  }),
  CloudDestination,
  /** Over the disks of another machine. `base`: a point of that one, in the same store, by which what differs is known without reading it. */
  z.object({
    to: z.literal('over'),
    machine: z.string(),
    start: z.boolean(),
    base: z.object({ seriesId: z.uuid(), taskId: z.uuid() }).nullable(),
  }),
  /** Files into a machine that runs, by its helper or an account inside. */
  z.object({
    to: z.literal('inside'),
    workloadId: Id,
    /** What the platform calls it. */
    machine: z.string(),
    account: InsideAccount.nullable(),
    rule: z.enum(conflictRules),
    stamp: z.string(),
  }),
]);
export type MachineDestination = z.infer<typeof MachineDestination>;

/** A platform: the whole machine, or the disks that are picked. */
export const MachineTo = z.object({ kind: z.literal('machine'), platform: PlatformRef, destination: MachineDestination });
export type MachineTo = z.infer<typeof MachineTo>;

/** Where machines go that are put beside what there is: for all of them, and what is different for one, by its point. */
export const MachinePlace = z.object({
  to: z.literal('platform'),
  platformId: Id,
  host: Name,
  folder: z.string().trim().max(400).regex(/^\//, 'start with /'),
  storage: Name,
  /** Null keeps those the machine had. */
  networks: z.array(Name).max(20).nullable().default(null),
  /** Put behind the names. */
  suffix: z.string().trim().max(40).default(''),
  exceptions: z
    .array(
      z.object({
        pointId: z.uuid(),
        name: Name.optional(),
        host: Name.optional(),
        storage: Name.optional(),
        /** By label of the disk. */
        storages: z.record(z.string(), Name).optional(),
      }),
    )
    .max(500)
    .default([]),
});

/** Files that lay inside disks, into a machine that runs. */
export const InsidePlace = z.object({
  to: z.literal('inside'),
  workloadId: Id,
  folder: z.string().trim().max(4000).regex(/^\//, 'start with /'),
  keepPath: z.boolean().default(false),
});

/** A machine that runs from the store: what it writes goes to an overlay in a folder of the mover ('' for its own), of at most so many bytes. */
export const RunningPlace = z.object({
  to: z.literal('running'),
  platformId: Id,
  host: Name,
  folder: z.string().trim().max(400).regex(/^\//, 'start with /'),
  /** None is on its own. */
  networks: z.array(Name).max(20),
  /** Put behind the names. */
  suffix: z.string().trim().max(40).default(''),
  overlay: z.object({
    folder: z
      .string()
      .max(4000)
      .regex(/^(|\/.*)$/, 'start with /')
      .default(''),
    most: z
      .int()
      .min(1 << 20)
      .max(2 ** 50),
  }),
});

/** Where volumes of the disks of a machine are mounted inside it, and what of some places is there; `refused`: why nothing can be put there, '' where it can. */
export const InsideLook = z.object({
  mounts: z.array(z.object({ disk: z.string().max(200), volume: z.string().max(300), at: z.string().max(4000) })).max(1000),
  looked: Count,
  exist: Count,
  newer: Count,
  refused: z.string().max(2000),
});
export type InsideLook = z.infer<typeof InsideLook>;

export const machine = {
  name: 'machine',
  noun: 'machine',
  group: 'Machines',
  changesIn: 'blocks',
  compares: false,
  opens: true,
  logs: false,
  from: MachineFrom,
  to: MachineTo,
} as const satisfies Kind;
