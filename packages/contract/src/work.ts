import { z } from 'zod';
import { From, KindName, LogStart, SnapshotAt, To } from '@lithodex/kinds';
import { Bytes, ByteString, Count, Instant, mostEdited, Uuid } from './common';
import { TargetPlace } from './estate';
import { PlatformRef } from './platform';
import { PointKind, Scripts } from './policy';
import { AttachedAs } from './attached';
import { DrillCheck, DrillRoom } from './drills';
import { MachineWish } from './running-machine';
import { RuleSource, ScanFind, ScanNote, Tells } from './scans';

/** A machine in a snapshot that its storage keeps: it stands on no target of ours, and is read there. */
const SnapshotPlace = z.object({
  kind: z.literal('snapshot'),
  platform: PlatformRef,
  at: SnapshotAt,
  /** What the platform calls it, and where it was. */
  machine: z.string().max(200),
  cluster: z.string(),
  location: z.string(),
});
export const TargetRef = z.object({
  id: Uuid,
  place: z.union([TargetPlace, SnapshotPlace]),
  /** The installation that asks, which must own the store to write there. */
  owner: z.string().regex(/^[0-9a-f]{32}$/),
  /** Another installation owns the store: it is read, and never written to. */
  follows: z.boolean().optional(),
});
export type TargetRef = z.infer<typeof TargetRef>;
/** A point and where it stands: `target` is read, `others` where that one is away or damaged. */
export const PointRef = z.object({ taskId: Uuid, seriesId: Uuid, target: TargetRef, others: z.array(TargetRef), root: ByteString });
export type PointRef = z.infer<typeof PointRef>;

/** A source that another mover reads, which gives what it reads to the one with the task. */
export const Afar = z.object({ kind: z.literal('afar'), mover: z.string(), of: KindName });
export type Afar = z.infer<typeof Afar>;

export const BackupWork = z.object({
  type: z.enum(['backup', 'trial']),
  target: TargetRef,
  seriesId: Uuid,
  workload: z.object({ id: z.string(), name: z.string(), source: z.string(), path: ByteString }),
  kind: PointKind,
  /** Name of the point that is taken. */
  pointId: Uuid,
  /** Whether it goes on with the next point when one is taken, for as long as it is told to. */
  follow: z.boolean().default(false),
  /** The newest point of the series, and the one that unchanged entries are taken over from: null for reading everything. */
  previous: Uuid.nullable(),
  base: Uuid.nullable(),
  /** Take nothing as stored: write everything again. */
  fresh: z.boolean(),
  moment: Instant,
  include: z.array(z.string()),
  exclude: z.array(z.string()),
  /** What is read of a workload of several parts, the rest stays as it was; none for all. */
  parts: z.array(z.string()).default([]),
  from: z.union([From, Afar]),
  /** Where a log begins, and what of it is still needed. */
  logStart: LogStart.nullable().default(null),
  /** Whether its log is taken as well, so that it has to lead on from this point. */
  logged: z.boolean().default(false),
  lockedUntil: Instant.nullable(),
  scripts: Scripts.nullable(),
  /** Where its kind is text, that is written beside the store as ordinary files as well. */
  newestBeside: z.boolean().default(false),
  /** Whether the catalog is told what is inside its items, and by which version of the readers it was of the point before, 0 for not told. */
  namesInside: z.object({ before: z.int(), now: z.boolean() }).default({ before: 0, now: false }),
  expected: z.object({ items: Count, bytes: Bytes }),
});
export type BackupWork = z.infer<typeof BackupWork>;

/** `to`, `base`: where an item goes, below which folder; '' where its kind has no folders. An empty `path` is all of a point. */
export const RestoreWork = z.object({
  type: z.literal('restore'),
  picks: z.array(z.object({ point: PointRef, path: ByteString, to: ByteString, base: ByteString })),
  to: To,
  /** What takes the place of what is stored of the only pick. */
  edited: z.string().max(mostEdited).nullish(),
  trial: z.boolean(),
  expected: z.object({ items: Count, bytes: Bytes }),
});
export type RestoreWork = z.infer<typeof RestoreWork>;

export const DownloadWork = z.object({
  type: z.literal('download'),
  format: z.enum(['tar', 'zip', 'file', 'qcow2', 'ova', 'mbox', 'maildir']),
  picks: z.array(z.object({ point: PointRef, path: ByteString, to: ByteString })),
  expected: z.object({ items: Count, bytes: Bytes }),
});
export type DownloadWork = z.infer<typeof DownloadWork>;

/** Shows a disk or a volume of a point as a block device, or a folder as a drive, to whoever knows the key, until then. */
export const AttachWork = z.object({
  type: z.literal('attach'),
  point: PointRef,
  path: ByteString,
  as: AttachedAs.default('device'),
  until: Instant,
});
export type AttachWork = z.infer<typeof AttachWork>;

/** A machine that runs from the store until it lies elsewhere or is dropped; `overlay.folder`: '' for the mover's own place. */
export const RunMachineWork = z.object({
  type: z.literal('runMachine'),
  point: PointRef,
  platform: PlatformRef,
  place: z.object({ name: z.string(), host: z.string(), folder: z.string(), networks: z.array(z.string()) }),
  overlay: z.object({ folder: ByteString, most: Bytes }),
  wish: MachineWish,
});
export type RunMachineWork = z.infer<typeof RunMachineWork>;

const PointName = z.object({ seriesId: Uuid, taskId: Uuid });

/** Copies points of a series from one target to another, oldest first. `alike`: one that stands there already. */
export const CopyWork = z.object({
  type: z.literal('copy'),
  points: z.array(PointRef.extend({ lockedUntil: Instant.nullable() })).max(1000),
  to: TargetRef,
  alike: Uuid.nullable(),
  expected: z.object({ bytes: Bytes }),
});
export type CopyWork = z.infer<typeof CopyWork>;

/** Lets points go from one target; those that turn out to be locked there stay. */
export const ExpireWork = z.object({ type: z.literal('expire'), target: TargetRef, points: z.array(PointName) });
export type ExpireWork = z.infer<typeof ExpireWork>;

export const PruneWork = z.object({ type: z.literal('prune'), target: TargetRef, trial: z.boolean() });
export type PruneWork = z.infer<typeof PruneWork>;

/** Reads a target again, all of it or the part `number` of `of`, and mends what it finds from the other targets. `expected`: the points that should be there. */
export const VerifyWork = z.object({
  type: z.literal('verify'),
  target: TargetRef,
  part: z.object({ number: Count, of: z.int().positive() }).nullable(),
  others: z.array(z.object({ name: z.string(), target: TargetRef })),
  expected: z.array(PointName.extend({ lockedUntil: Instant.nullable() })),
});
export type VerifyWork = z.infer<typeof VerifyWork>;

/** Takes the points that stand on a target into the catalog. */
export const AdoptWork = z.object({ type: z.literal('adopt'), target: TargetRef });
export type AdoptWork = z.infer<typeof AdoptWork>;

/**
 * Looks into points of a series, oldest first, for what rules find; tells sums and what is sensitive of those that are newer than all of which it was told. `since`: the point before them that was looked into
 * by the same rules, with what was found there: what is as it was there is not read again; `told`: it is the newest of which that was told. `scanner`: name of a command in the mover's
 * own settings.
 */
export const ScanWork = z.object({
  type: z.literal('scan'),
  points: z.array(PointRef.extend({ tells: Tells })).max(1000),
  since: z.object({ point: PointRef, finds: z.array(ScanFind), notes: z.array(ScanNote), told: Tells }).nullable(),
  rules: z.array(RuleSource),
  scanner: z.string().max(60),
  sensitive: z.boolean(),
  expected: z.object({ items: Count, bytes: Bytes }),
});
export type ScanWork = z.infer<typeof ScanWork>;

/**
 * Brings a point back to a place of its own, looks at it, and removes it again. `objective`: within how many seconds it has to be usable. `patience`: how long a start may take, s.
 */
export const DrillWork = z.object({
  type: z.literal('drill'),
  point: PointRef,
  room: DrillRoom,
  checks: z.array(DrillCheck),
  objective: Count.nullable(),
  patience: Count,
  expected: z.object({ items: Count, bytes: Bytes }),
});
export type DrillWork = z.infer<typeof DrillWork>;

export const Work = z.discriminatedUnion('type', [
  BackupWork,
  RestoreWork,
  DownloadWork,
  AttachWork,
  RunMachineWork,
  ExpireWork,
  PruneWork,
  VerifyWork,
  CopyWork,
  AdoptWork,
  ScanWork,
  DrillWork,
]);
export type Work = z.infer<typeof Work>;
