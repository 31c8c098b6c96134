import { z } from 'zod';
import { JudgedPart, KindName, PointFacts, ServerSystem, WorkloadFacts } from '@lithodex/kinds';
import { QueryInstant, Bytes, ClockTime, Count, EscapedPath, Id, Instant, Name, Named, Uuid } from './common';
import { MachineFacts, MachinePoint } from './platform';
import { PointKind } from './policy';
import { PriceTable } from './prices';

/** The mover that reads a source: another one gets what it reads from there. null: whichever comes first. */
export const ReadBy = z.string().trim().min(1).max(80).nullable().default(null);

export const SourceBody = z.object({
  name: Name,
  /** Absolute folder on the mover's host. */
  folder: z.string().min(1).max(4000).regex(/^\//, 'start with /'),
  location: z.string().trim().max(80).default(''),
  /** Account whose rights are used to read; null means the mover's own. */
  readAs: z
    .string()
    .regex(/^[a-z_][a-z0-9_-]{0,31}$/)
    .nullable()
    .default(null),
  crossFileSystems: z.boolean().default(false),
  /** The folder is the root of a server, which is read whole, so that it can be rebuilt on other hardware. */
  wholeServer: z.boolean().default(false),
  readBy: ReadBy,
  tags: z.array(Name).max(30).default([]),
});
export type SourceBody = z.infer<typeof SourceBody>;

export const ConnectionTest = z.object({
  ok: z.boolean(),
  findings: z.array(z.object({ level: z.enum(['fault', 'warning']), path: z.string(), message: z.string(), neededFor: z.string() })),
  looked: Count,
  complete: z.boolean(),
});
export type ConnectionTest = z.infer<typeof ConnectionTest>;

export const coverageMarks = ['none', 'matched', 'protected', 'suspect'] as const;
export const WorkloadRow = z.object({
  id: Id,
  name: z.string(),
  kind: KindName,
  /** Of a machine. */
  machine: MachineFacts.nullable(),
  /** What is known of one of another kind. */
  facts: WorkloadFacts.nullable(),
  /** Account that is used inside of it, as of now; null for none. */
  inside: z.string().nullable(),
  /** Since when its platform has it no more; null while it is there. */
  gone: Instant.nullable(),
  source: z.object({ id: Id, name: z.string(), location: z.string(), folder: z.string() }),
  tags: z.array(z.string()),
  policies: z.array(z.object({ id: Id, name: z.string() })),
  /** none: no policy and no points; matched: a policy but no point yet. */
  coverage: z.enum(coverageMarks),
  newestPoint: z.object({ id: Uuid, moment: Instant, bytes: Bytes, items: Count }).nullable(),
  points: Count,
  objectiveHours: z.number().nullable(),
  late: z.boolean(),
  /** The oldest moment that can still be brought back. */
  oldestPoint: Instant.nullable(),
});
export type WorkloadRow = z.infer<typeof WorkloadRow>;

export const estateBys = ['platform', 'host', 'folder', 'storage', 'place', 'tag', 'kind'] as const;
export const EstateBy = z.enum(estateBys);
export type EstateBy = z.infer<typeof EstateBy>;
/** gone: without those that are there; points: those that can be brought back, gone or not. */
export const estateShows = ['none', 'matched', 'suspect', 'late', 'protected', 'gone', 'points'] as const;

/** A page of workloads that fit; `by` asks for the tree of one hierarchy, `in` for what lies in a node of it. */
export const EstateQuery = z.object({
  at: QueryInstant.optional(),
  q: z.string().max(200).optional(),
  show: z.enum(estateShows).optional(),
  tag: z.string().max(120).optional(),
  by: EstateBy.optional(),
  in: z.string().max(2000).optional(),
  offset: z.coerce.number().int().min(0).default(0),
  limit: z.coerce.number().int().min(1).max(500).default(200),
});

export const Estate = z.object({
  asOf: Instant.nullable(),
  /** A page of those that fit, what needs protection first. */
  workloads: z.array(WorkloadRow),
  /** How many fit. */
  total: Count,
  nodes: z.array(z.object({ path: z.string(), name: z.string(), depth: Count, count: Count, open: Count })),
  counts: z.object({ all: Count, none: Count, matched: Count, protected: Count, suspect: Count, late: Count, gone: Count }),
  tags: z.array(z.object({ name: z.string(), count: Count })),
});
export type Estate = z.infer<typeof Estate>;

/** What rules and policies can name. */
export const EstateValues = z.object({
  workloads: z.array(Named.extend({ kind: KindName, coverage: z.enum(coverageMarks) })),
  tags: z.array(z.object({ name: z.string(), count: Count })),
  fields: z.record(z.string(), z.array(z.string())),
});
export type EstateValues = z.infer<typeof EstateValues>;

export const DiscoveredRow = z.object({
  name: z.string(),
  path: EscapedPath,
  kind: z.string(),
  size: Bytes,
  mtime: Instant,
  readable: z.boolean(),
  /** Left out by a policy's patterns or because a target lives there; '' when it is protected with the workload. */
  leftOut: z.string(),
});
export const Discovered = z.object({ path: EscapedPath, rows: z.array(DiscoveredRow), readAt: Instant });
export type Discovered = z.infer<typeof Discovered>;

export const PointCopy = z.object({
  targetId: Uuid,
  target: z.string(),
  madeAt: Instant,
  /** Nobody can remove it from there before; null when it is not locked. */
  lockedUntil: Instant.nullable(),
  keepUntil: Instant.nullable(),
  keepWhy: z.string(),
});
export type PointCopy = z.infer<typeof PointCopy>;

export const Point = z.object({
  id: Uuid,
  seriesId: Uuid,
  workloadId: Id,
  /** Null for what no run of ours took. */
  runId: Id.nullable(),
  moment: Instant,
  /** `snapshot`: its storage keeps it, not we. */
  kind: z.enum([...PointKind.options, 'snapshot']),
  /** Where it stands; the one it was first stored on comes first while it is there. */
  copies: z.array(PointCopy),
  policy: z.string().nullable(),
  buildsOn: Instant.nullable(),
  items: Count,
  files: Count,
  bytes: Bytes,
  read: Bytes,
  fresh: Bytes,
  stored: Bytes,
  added: Count,
  changed: Count,
  removed: Count,
  warnings: Count,
  complete: z.boolean(),
  unusual: z.int(),
  reasons: z.array(z.string()),
  suspect: z.boolean(),
  held: z.boolean(),
  heldWhy: z.string(),
  expired: z.boolean(),
  /** The storage that keeps it, where that is not one of our targets: lost with that storage, and gone when it lets it go. */
  onStorage: z.object({ storage: z.string(), platform: z.string(), name: z.string() }).nullable().default(null),
  /** Of a point of a machine. */
  machine: MachinePoint.nullable(),
  /** Of a point of another kind. */
  facts: PointFacts.nullable(),
});
export type Point = z.infer<typeof Point>;

export const WorkloadDetail = WorkloadRow.extend({
  readAs: z.string().nullable(),
  /** The mover that reads the source; null for whichever comes first. */
  readBy: z.string().nullable(),
  /** Tasks that may read the source at once; null for any number. */
  readers: Count.nullable(),
  /** It is a server that is read whole, so that it can be rebuilt. */
  wholeServer: z.boolean(),
  frozen: z.boolean(),
  seriesId: Uuid.nullable(),
  allBytes: Bytes,
  storedBytes: Bytes,
  pointList: z.array(Point),
  /** Moments at which a scheduled run should have made a point but did not. */
  missing: z.array(z.object({ moment: Instant, why: z.string() })),
  /** How widely the newest sound point is spread, the original counted; null while there is none. */
  spread: z.object({ copies: Count, media: Count, elsewhere: Count.nullable(), locked: Count, gaps: z.array(z.string()) }).nullable(),
  damage: z.object({ pointId: Uuid, goodPointId: Uuid, files: Count, bytes: Bytes }).nullable(),
});
export type WorkloadDetail = z.infer<typeof WorkloadDetail>;

const PointAt = z.object({ id: Uuid, moment: Instant });
/** Whether a server could be rebuilt on other hardware today. */
export const Ready = z.object({
  /** The one that was asked for, else the newest; null while there is none. */
  point: PointAt.nullable(),
  system: ServerSystem.nullable(),
  parts: z.array(JudgedPart),
  /** The newest one from which it could be rebuilt. */
  lastWhole: PointAt.nullable(),
  /** Since when each point lacks an essential part; null where the newest lacks none. */
  lacksSince: Instant.nullable(),
  /** The newest ones, newest first, and whether the server could be rebuilt from each. */
  points: z.array(PointAt.extend({ whole: z.boolean() })),
});
export type Ready = z.infer<typeof Ready>;

const FolderPlace = z.object({ kind: z.literal('folder'), folder: z.string().regex(/^\//, 'start with /').max(4000) });
/** A bucket of an object storage that speaks the S3 protocol. */
const BucketAddress = z.object({
  kind: z.literal('bucket'),
  endpoint: z.url({ protocol: /^https?$/ }).max(300),
  region: z.string().trim().min(1).max(60).default('default'),
  bucket: z.string().regex(/^[a-z0-9][a-z0-9.-]{2,62}$/),
  /** Put before every name; '' or ending in /. */
  prefix: z
    .string()
    .regex(/^([\w.-]+\/)*$/, 'names that end in /')
    .max(400)
    .default(''),
  /** Whether the bucket can lock what it keeps; found out by the test. */
  locks: z.boolean().default(false),
});
const BucketKeys = { accessKey: z.string().min(1).max(200), secretKey: z.string().min(1).max(200) };
/** A set of cartridges in a library. */
const CartridgeSet = z.object({
  kind: z.literal('cartridges'),
  endpoint: z.url({ protocol: /^https?$/ }).max(300),
  /** What the barcodes of the set begin with. */
  barcodes: z.string().regex(/^[A-Z0-9]{1,12}$/, 'capital letters and digits'),
  /** Folder on the movers for what must be at hand without loading. */
  folder: FolderPlace.shape.folder,
});
/** Where a target is, with what opens it: goes to movers, never to a browser. */
export const TargetPlace = z.discriminatedUnion('kind', [
  FolderPlace,
  BucketAddress.extend(BucketKeys),
  CartridgeSet.extend({ token: z.string().min(1).max(200) }),
]);
export type TargetPlace = z.infer<typeof TargetPlace>;
export const ShownPlace = z.discriminatedUnion('kind', [FolderPlace, BucketAddress, CartridgeSet]);
export type ShownPlace = z.infer<typeof ShownPlace>;

export const PaceWindow = z.object({ from: ClockTime, to: ClockTime, perSecond: z.int().min(1000).max(100_000_000_000) });
export type PaceWindow = z.infer<typeof PaceWindow>;

export const TargetBody = z.object({ name: Name, place: TargetPlace, location: z.string().trim().max(80).default('') });
export type TargetBody = z.infer<typeof TargetBody>;
/** Minutes between two readings of a store that is followed. */
export const FollowEvery = z.int().min(5).max(1440);
export const Target = z.object({
  id: Uuid,
  name: z.string(),
  place: ShownPlace,
  location: z.string(),
  used: Bytes.nullable(),
  free: Bytes.nullable(),
  measuredAt: Instant.nullable(),
  prunedAt: Instant.nullable(),
  verifiedAt: Instant.nullable(),
  points: Count,
  allBytes: Bytes,
  storedBytes: Bytes,
  /** How it grows and when it is full, as far as its history tells; null for too little history or a target without an end. */
  outlook: z
    .object({
      perDay: z.number(),
      expected: Instant.nullable(),
      earliest: Instant.nullable(),
      latest: Instant.nullable(),
      estimated: z.boolean(),
    })
    .nullable(),
  /** When it takes how much at most: from all who write there, and from verification. */
  paces: z.array(PaceWindow),
  /** Tasks that may write there at once; null for no limit. */
  writers: Count.nullable(),
  /** The newest dump of each database server is kept there as ordinary files, beside the store. */
  newestFiles: z.boolean(),
  /** When the settings of the installation were written there last; null while they were not. */
  settingsAt: Instant.nullable(),
  /** When somebody fetched its key envelope last; null for never. */
  envelopeAt: Instant.nullable(),
  /** It was taken over, and nobody has said what becomes of the settings kept there. */
  settingsHeld: z.boolean(),
  /** It is read every so many minutes, and never written to, as another installation owns it; null where it is ours. */
  follows: z
    .object({
      every: Count,
      /** When it was read whole last, and the newest point that it gave. */
      readAt: Instant.nullable(),
      newest: Instant.nullable(),
    })
    .nullable(),
  /** Since when another installation owns the store; null where it is ours, as far as is known. */
  ownedElsewhere: Instant.nullable(),
  /** When installations that follow it read it last, the newest first. */
  followed: z.array(Instant),
  /** Where its points go, as it is being given up; null while it is in use. */
  retiredTo: Uuid.nullable(),
  /** null: nobody said what it costs. */
  prices: PriceTable.nullable(),
  trouble: z.string().nullable(),
});
export type Target = z.infer<typeof Target>;
export const TargetTest = z.object({
  ok: z.boolean(),
  holdsStore: z.boolean(),
  locks: z.boolean(),
  /** null where nobody can tell. */
  free: Bytes.nullable(),
  message: z.string(),
  /** Each right a target needs, why, and what kept it from being used ('' when it works). */
  needs: z.array(z.object({ right: z.string(), neededFor: z.string(), problem: z.string() })),
});
export type TargetTest = z.infer<typeof TargetTest>;
export const Envelope = z.object({ fileName: z.string(), content: z.string() });
