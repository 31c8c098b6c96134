import { z } from 'zod';
import { ByteString, Bytes, Count } from './values';

const Text = z.string().max(400);

export const Partition = z.object({
  no: Count,
  /** From the beginning of the disk. */
  start: Bytes,
  bytes: Bytes,
  /** As the table says it: a GUID, or two hexadecimal digits. */
  type: Text,
  uuid: Text,
  label: Text,
});
export type Partition = z.infer<typeof Partition>;

/** A disk of a server. Its name is the kernel's and may be another one after every start: people tell disks apart by size, serial and port. */
export const ServerDisk = z.object({
  name: Text,
  bytes: Bytes,
  /** Of a sector. */
  sector: Bytes,
  serial: Text,
  model: Text,
  port: Text,
  table: z.enum(['gpt', 'mbr', 'none']),
  tableId: Text,
  partitions: z.array(Partition).max(128),
});
export type ServerDisk = z.infer<typeof ServerDisk>;

export const layers = ['disk', 'partition', 'logical', 'raid', 'sealed'] as const;

/** A file system or swap of a server, and what it lies on. */
export const ServerVolume = z.object({
  /** Name of the device that holds it. */
  device: Text,
  /** What the device is: a partition, a logical volume, software RAID, or an encrypted one. */
  layer: z.enum(layers),
  /** Names of the partitions, or whole disks, that it lies on in the end. */
  on: z.array(Text).max(64),
  /** As its file system is called by the kernel; 'swap' for swap. */
  fileSystem: Text,
  uuid: Text,
  label: Text,
  bytes: Bytes,
  /** null where nobody could tell. */
  used: Bytes.nullable(),
  /** Where it is mounted; '' where it is not, as swap. */
  mount: Text,
  options: Text,
  /** Whether the point holds its files: what is no part of the system, as a store of backups, is left out. */
  taken: z.boolean(),
});
export type ServerVolume = z.infer<typeof ServerVolume>;

export const NetworkCard = z.object({
  name: Text,
  /** Its own address, by which it is known again. */
  mac: Text,
  driver: Text,
  /** With the length of the prefix, as 192.0.2.37/24. */
  addresses: z.array(Text).max(32),
});
export type NetworkCard = z.infer<typeof NetworkCard>;

/** What a server says of itself, beside its files: all that another machine needs to become it. */
export const ServerSystem = z.object({
  host: Text,
  /** Identity that the system gave itself. */
  machineId: Text,
  /** As a person would name the system, with its version. */
  system: Text,
  firmware: z.enum(['uefi', 'bios', 'unknown']),
  bootEntries: z.array(z.object({ label: Text, first: z.boolean(), file: Text })).max(64),
  architecture: Text,
  processor: Text,
  cores: Count,
  memory: Bytes,
  disks: z.array(ServerDisk).max(64),
  volumes: z.array(ServerVolume).max(128),
  /** What starts the kernel; '' where it was not recognised. */
  loader: Text,
  kernels: z.array(z.object({ version: Text, initramfs: z.boolean(), modules: z.boolean() })).max(32),
  cards: z.array(NetworkCard).max(64),
  routes: z.array(Text).max(64),
  nameServers: z.array(Text).max(16),
  /** Storage and other controllers with the driver that serves them, '' for none. */
  controllers: z.array(z.object({ name: Text, driver: Text })).max(64),
  zone: Text,
  packages: Count,
  /** Names of parts that could not be read, each with the reason. */
  unread: z.record(z.string().max(40), Text),
});
export type ServerSystem = z.infer<typeof ServerSystem>;

export const systemParts = [
  'layout',
  'firmware',
  'loader',
  'kernel',
  'mounts',
  'hardware',
  'network',
  'identity',
  'clock',
  'packages',
] as const;
export type SystemPart = (typeof systemParts)[number];

/** A system part of a point: whole, or what it lacks. Without one that is essential nothing can be rebuilt. */
export const JudgedPart = z.object({ part: z.enum(systemParts), essential: z.boolean(), missing: Text });
export type JudgedPart = z.infer<typeof JudgedPart>;

/** What the point of a server that was read whole says of it. */
export const ServerPoint = z.object({
  kind: z.literal('server'),
  system: ServerSystem,
  parts: z.array(JudgedPart).max(systemParts.length),
});
export type ServerPoint = z.infer<typeof ServerPoint>;

const leastDisk = 64 << 20;
const mostDisk = 64 * 2 ** 40;
/** A disk that is made as a file; `first`: a machine of it is to start from this one. */
export const ImageDisk = z.object({
  id: z.string().regex(/^[A-Za-z0-9][\w-]{0,39}$/, 'letters, digits, - and _'),
  bytes: z.int().min(leastDisk).max(mostDisk),
  first: z.boolean(),
});
export type ImageDisk = z.infer<typeof ImageDisk>;

const ImageDisks = z
  .array(ImageDisk)
  .min(1)
  .max(16)
  .refine((disks) => new Set(disks.map((d) => d.id.toLowerCase())).size === disks.length, { message: 'each by a name of its own' })
  .refine((disks) => disks.filter((d) => d.first).length === 1, { message: 'one of them starts first' });

/** A server made anew on disks that are files of the mover, in a new folder. */
export const DisksPlace = z.object({
  to: z.literal('disks'),
  folder: z.string().regex(/^\//, 'start with /').max(4000),
  disks: ImageDisks,
  /** With the identities of its disks and volumes; otherwise with new ones, as a clone has. */
  asItself: z.boolean().default(true),
});
export const DisksTo = z.object({ folder: ByteString, disks: ImageDisks, asItself: z.boolean() });
export type DisksTo = z.infer<typeof DisksTo>;
