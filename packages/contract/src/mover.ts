import { z } from 'zod';
import {
  ApplicationDestination,
  BucketName,
  BucketService,
  ClaimName,
  Cluster,
  NamespaceName,
  DatabaseFrom,
  FileServer,
  From,
  PointFacts,
  ShareName,
  TableBeside,
  TableInside,
  TenantFrom,
  SnapshotAt,
  UnitFacts,
  UnitName,
} from '@lithodex/kinds';
import { Bytes, ByteString, Count, Id, Instant, Uuid } from './common';
import { TargetPlace } from './estate';
import { ShareRef } from './shares';
import { InsideAccount, MachinePoint, PlatformRef } from './platform';
import { PointKind, Scripts } from './policy';
import { MachineWish } from './running-machine';
import { Cause, Progress } from './runs';
import { RuleSource } from './scans';
import { BackupWork, PointRef, TargetRef, Work } from './work';

export const MoverName = z.string().trim().min(1).max(80);
/** What a mover and a server must have in common to understand each other: one more whenever their messages change. */
export const moverLanguage = 21;
/** A mover that does not say what it speaks is of the time when there was one language. */
export const Claim = z.object({
  mover: MoverName,
  speaks: Count.default(1),
  /** Whether movers that only read can bring it what they read. */
  receives: z.boolean().default(false),
  /** Whether it asks for a log that is followed: that takes no place of other work. */
  follows: z.boolean().default(false),
});
/** Bytes a second at which a task may write to its target, or verify it; null for no limit. */
const Pace = z.number().positive().nullable();
export const ClaimedTask = z.object({
  id: Uuid,
  runId: Id,
  attempt: z.int().positive(),
  leaseMs: Count,
  serverNow: Instant,
  pace: Pace,
  work: Work,
});
export type ClaimedTask = z.infer<typeof ClaimedTask>;
export const Claimed = z.object({ task: ClaimedTask.nullable() });

/** Characters of a line's message; movers cut what is longer. */
export const longestMessage = 2000;
export const MoverLine = z.object({
  level: z.enum(['note', 'warning', 'fault']),
  code: z.string().max(40),
  path: ByteString,
  message: z.string().max(longestMessage),
});
export type MoverLine = z.infer<typeof MoverLine>;
const Attempt = z.object({ attempt: z.int().positive() });
/** `logSeq` numbers batches of log lines, so that one sent twice counts once. */
export const Renew = Attempt.extend({ progress: Progress.nullable(), logSeq: Count, log: z.array(MoverLine).max(2000) });
/** `wish`: of a machine that runs from the store. */
export const Renewed = z.object({ stop: z.boolean(), pace: Pace, wish: MachineWish.nullable().default(null) });

export const ItemFacts = z.object({
  kind: z.string().max(10),
  size: Bytes,
  mtimeNs: z.string().max(24),
  mode: Count,
  uid: Count,
  gid: Count,
  /** Everything below, for folders. */
  items: Count,
  flags: Count,
  /** 16 bytes that stand for the content, as hex; '' for none. */
  content: z.string().max(32),
});
export type ItemFacts = z.infer<typeof ItemFacts>;
export const itemFlags = { unread: 1, random: 2, torn: 4 } as const;
/** `opened`: what is inside an item is told as well, below its path; `closed`: nothing is known any more of what is inside it. */
export const ItemChange = z.object({
  change: z.enum(['added', 'changed', 'removed', 'unseen', 'opened', 'closed']),
  folder: ByteString,
  name: ByteString,
  facts: ItemFacts.nullable(),
});
export type ItemChange = z.infer<typeof ItemChange>;
export const ItemBatch = Attempt.extend({ seq: Count, changes: z.array(ItemChange).max(5000) });

/** What a point changed against the one before; see `ChangeCounts`. */
export const PointChanges = z.object({
  /** What is counted. */
  of: z.enum(['files', 'blocks']).default('files'),
  before: Count,
  added: Count,
  changed: Count,
  removed: Count,
  random: Count,
  turnedRandom: Count,
  renamed: Count,
  twins: Count.optional(),
  moved: Count.optional(),
  removedFresh: Count.optional(),
  addedBytes: Bytes.optional(),
  removedBytes: Bytes.optional(),
  ending: ByteString.max(300).optional(),
});

export const PointTotals = z.object({
  /** What the machine was, where it is a point of one. */
  machine: MachinePoint.nullable().default(null),
  /** What a point of another kind says of what it is of. */
  facts: PointFacts.nullable().default(null),
  moment: Instant,
  kind: PointKind,
  previous: Uuid.nullable(),
  base: Uuid.nullable(),
  items: Count,
  files: Count,
  bytes: Bytes,
  read: Bytes,
  fresh: Bytes,
  stored: Bytes,
  warnings: Count,
  complete: z.boolean(),
  lockedUntil: Instant.nullable(),
  /** By which version of the readers the catalog was told what is inside its items; 0 for not told. */
  namesInside: z.int().min(0).max(255).default(0),
  changes: PointChanges,
});
export type PointTotals = z.infer<typeof PointTotals>;
/** `pointId`: which one it is, as one that was told before may be told again. */
export const CommitPoint = Attempt.extend({ pointId: Uuid, point: PointTotals });
/** The point to take after it, where a log is followed; null for the end. */
export const NextPoint = BackupWork.pick({ pointId: true, previous: true, base: true, moment: true, logStart: true, expected: true });
export type NextPoint = z.infer<typeof NextPoint>;
export const Committed = z.object({ next: NextPoint.nullable() });

/** What the root of a point that was found on a target says. */
export const FoundPoint = PointTotals.omit({ changes: true, complete: true, namesInside: true }).extend({
  taskId: Uuid,
  seriesId: Uuid,
  workload: z.object({ name: z.string().max(120), source: z.string().max(120), path: ByteString }),
});
export type FoundPoint = z.infer<typeof FoundPoint>;
export const AdoptPoint = Attempt.extend({ point: FoundPoint });
/**
 * `known`: it is in the catalog, with this target. `load`: its items are wanted, as differences to the point `previous`, or all when that is null. `passed`: it is older than what the
 * catalog knows of its series, so it can't be fitted in.
 */
export const AdoptAnswer = z.object({ say: z.enum(['known', 'load', 'passed']), previous: Uuid.nullable() });
/** Points that stand on a target, of those whose ids come after `after` up to `upTo`; null: up to the last. */
export const PointsStanding = Attempt.extend({
  after: z.union([Uuid, z.literal('')]),
  upTo: Uuid.nullable(),
  points: z.array(Uuid).max(5000),
});
export const PointAdopted = Attempt.extend({ point: FoundPoint, changes: PointTotals.shape.changes });

/** A point stands on the target of the copy task now. `stored`: bytes written there for it. */
export const PointCopied = Attempt.extend({ pointId: Uuid, stored: Bytes, lockedUntil: Instant.nullable() });

/** What lets a mover in at another one, once: both know the key. */
const Ticket = z.object({ id: Uuid, key: z.string().regex(/^[0-9a-f]{64}$/) });
const MoverAddress = z.string().min(3).max(300);
/** Calls the mover that reads the source of a task, or the unit that a task makes a server anew on, to come to an address. */
export const CallReader = Attempt.extend({ address: MoverAddress, ticket: Ticket });

/** Which of these tasks may still go on; the others have ended for good. */
export const AliveTasks = Attempt.extend({ tasks: z.array(z.string().max(80)).max(50_000) });
export const AliveAnswer = z.object({ alive: z.array(z.string()) });

export const RestoredItems = Attempt.extend({
  seq: Count,
  items: z
    .array(z.object({ path: ByteString, action: z.string().max(20), kind: z.string().max(10), bytes: Bytes, remark: z.string().max(4000) }))
    .max(5000),
});
export const Finish = Attempt.extend({
  outcome: z.enum(['done', 'failed', 'stopped']),
  cause: Cause.nullable(),
  counts: z.object({
    items: Count,
    files: Count,
    bytes: Bytes,
    read: Bytes,
    stored: Bytes,
    warnings: Count,
    failed: Count,
    missing: Count,
  }),
  phases: z.array(z.object({ name: z.string().max(40), ms: z.number() })),
  /** Measured seconds of real work and the bytes moved in them. */
  measured: z.object({ ms: z.number(), bytes: z.number() }),
  /** What the platform calls the machines that were made. */
  made: z.array(z.string().max(200)).max(1000).default([]),
});
export type Finish = z.infer<typeof Finish>;

/** Which cartridges bring items of a point back. */
export const CartridgesNeeded = z.object({
  needed: z.array(z.object({ barcode: z.string(), here: z.boolean() })),
  /** False when there may be more: folders that say so are on one that is away. */
  complete: z.boolean(),
});
export type CartridgesNeeded = z.infer<typeof CartridgesNeeded>;

/** Questions a mover answers within a second. */
export const Question = z.discriminatedUnion('ask', [
  z.object({ ask: z.literal('probe'), folder: ByteString, readAs: z.string().nullable() }),
  z.object({ ask: z.literal('discover'), folder: ByteString, path: ByteString, readAs: z.string().nullable() }),
  z.object({
    ask: z.literal('read'),
    address: MoverAddress,
    ticket: Ticket,
    from: From,
    scripts: Scripts.nullable(),
    /** What the scripts are told. */
    task: z.object({ runId: Id, workload: z.string(), source: z.string(), kind: PointKind }),
  }),
  /** Of a machine that was started from a recovery medium: to come to a mover, and to be made anew by what that sends. */
  z.object({ ask: z.literal('rebuild'), address: MoverAddress, ticket: Ticket, task: z.object({ runId: Id }) }),
  z.object({ ask: z.literal('systemTest'), from: From }),
  z.object({ ask: z.literal('systemFinds'), from: From }),
  /** What somebody of an office tenant has there now. */
  z.object({ ask: z.literal('memberNow'), from: TenantFrom }),
  /** What is where a restore of objects is to go. */
  z.object({ ask: z.literal('bucketNow'), server: BucketService, bucket: BucketName }),
  z.object({ ask: z.literal('shareNow'), server: FileServer, share: ShareName }),
  /** What would come of bringing an application to a place. */
  z.object({
    ask: z.literal('applicationLook'),
    point: PointRef,
    paths: z.array(ByteString).max(50_000),
    server: Cluster,
    destination: ApplicationDestination,
  }),
  /** A stored resource and the one of now. */
  z.object({ ask: z.literal('resourcePair'), point: PointRef, path: ByteString, server: Cluster, namespace: NamespaceName }),
  /** What rules say, and find in a sample. */
  z.object({ ask: z.literal('tryRules'), rules: z.array(RuleSource).max(1000), sample: z.string().max(100_000) }),
  /** What stands in a file of a point by one pattern. */
  z.object({ ask: z.literal('sensitiveIn'), point: PointRef, path: ByteString, pattern: z.string().max(60) }),
  /** To have an application use another of its volumes. */
  z.object({ ask: z.literal('switchVolume'), server: Cluster, namespace: NamespaceName, from: ClaimName, to: ClaimName }),
  /** To take a volume away that nobody uses any more. */
  z.object({ ask: z.literal('removeVolume'), server: Cluster, namespace: NamespaceName, claim: ClaimName }),
  /** What was there at a point of somebody, and is not now or is otherwise. */
  z.object({
    ask: z.literal('itemChanges'),
    point: PointRef,
    from: TenantFrom,
    about: z.string().max(200),
    tops: z.array(z.string().max(20)).max(10),
    path: ByteString,
    /** What was only moved or marked, and what is new, as well. */
    whole: z.boolean(),
    /** Password of that person, for asking in their name; null for asking as always. */
    own: z.string().max(1000).nullable(),
  }),
  z.object({
    ask: z.literal('commits'),
    point: PointRef,
    around: z.object({ stretch: Count, at: Instant, before: Count, after: Count }),
  }),
  z.object({ ask: z.literal('compareRows'), from: DatabaseFrom, pair: TableBeside }),
  z.object({ ask: z.literal('swapTables'), from: DatabaseFrom, pair: TableBeside }),
  /** What the scratch server holds that a task made, and that stays up. */
  z.object({ ask: z.literal('inside'), taskId: Uuid }),
  z.object({
    ask: z.literal('rowsInside'),
    taskId: Uuid,
    table: TableInside,
    which: z.object({
      holds: z.object({ column: z.string().max(300), text: z.string().max(300) }).nullable(),
      offset: Count,
      limit: z.int().min(1).max(500),
    }),
  }),
  z.object({ ask: z.literal('compareInside'), taskId: Uuid, from: DatabaseFrom, table: TableInside }),
  z.object({ ask: z.literal('endScratch'), taskId: Uuid }),
  z.object({ ask: z.literal('platformTest'), platform: PlatformRef }),
  z.object({ ask: z.literal('platformInventory'), platform: PlatformRef }),
  /** Has storages of a platform keep all their disks as they are. */
  z.object({
    ask: z.literal('takeSnapshots'),
    platform: PlatformRef,
    storages: z.array(z.string().max(200)).max(100),
    name: z.string().max(200),
  }),
  z.object({ ask: z.literal('removeSnapshot'), platform: PlatformRef, at: SnapshotAt }),
  /** Takes away a machine in a cloud that a task has made. */
  z.object({ ask: z.literal('removeMade'), platform: PlatformRef, machine: z.string().max(200), taskId: Uuid }),
  z.object({ ask: z.literal('insideTest'), platform: PlatformRef, machine: z.string(), account: InsideAccount }),
  /** The text of a document in a format that is known. */
  z.object({ ask: z.literal('documentText'), point: PointRef, path: ByteString }),
  /** A message, an appointment, a contact or a day of a conversation, as people read it. */
  z.object({ ask: z.literal('itemView'), point: PointRef, path: ByteString }),
  /** `no`: which attachment of a message; null for the item itself. */
  z.object({ ask: z.literal('itemAttachment'), point: PointRef, path: ByteString, no: Count.nullable() }),
  z.object({ ask: z.literal('shareTest'), share: ShareRef }),
  z.object({ ask: z.literal('targetTest'), place: TargetPlace }),
  /** `siblings`: the targets whose domain the new one joins, so that chunks have the same names on all of them. */
  z.object({ ask: z.literal('targetCreate'), target: TargetRef, siblings: z.array(TargetRef) }),
  /** Opens the store that is there with its envelope and makes a key file for it: to own it, or to follow it where the target says so. */
  z.object({ ask: z.literal('targetTakeOver'), target: TargetRef, envelope: z.string().max(20_000), passphrase: z.string() }),
  z.object({ ask: z.literal('targetOwn'), target: TargetRef }),
  z.object({ ask: z.literal('targetNewKey'), target: TargetRef }),
  z.object({ ask: z.literal('targetRoom'), target: TargetRef }),
  /** Settings of the installation, kept on the target as text. */
  z.object({ ask: z.literal('keepSettings'), target: TargetRef, at: Instant, text: z.string().max(50_000_000) }),
  z.object({ ask: z.literal('keptSettings'), target: TargetRef }),
  z.object({ ask: z.literal('cartridges'), target: TargetRef }),
  z.object({ ask: z.literal('cartridgesNeeded'), point: PointRef, paths: z.array(ByteString) }),
  z.object({ ask: z.literal('envelope'), target: TargetRef, name: z.string(), passphrase: z.string() }),
  z.object({ ask: z.literal('compare'), point: PointRef, path: ByteString, folder: z.boolean(), readAs: z.string().nullable() }),
  /** Where volumes are mounted inside a machine, and what of some places is there. */
  z.object({
    ask: z.literal('insideFiles'),
    platform: PlatformRef,
    machine: z.string(),
    account: InsideAccount.nullable(),
    places: z.array(z.object({ path: ByteString, mtimeNs: z.string() })).max(2000),
  }),
  /** How what a task has attached is reached. */
  z.object({ ask: z.literal('attached'), taskId: Uuid }),
  /** The front of a file of a point. */
  z.object({ ask: z.literal('front'), point: PointRef, path: ByteString, most: Count }),
  /** One folder inside an item of a point: what comes after a name, at most so many. */
  z.object({
    ask: z.literal('openedFolder'),
    point: PointRef,
    path: ByteString,
    after: ByteString,
    limit: z.int().min(1).max(1000),
  }),
  /** What items inside an item of a point are; of files at and below them at most `most` are named. */
  /** Mail stores inside a disk of a point, below a folder. */
  z.object({ ask: z.literal('mailStores'), point: PointRef, path: ByteString }),
  z.object({ ask: z.literal('openedItems'), point: PointRef, paths: z.array(ByteString).max(50_000), most: Count }),
  z.object({
    ask: z.literal('look'),
    /** What would be written below which destination. */
    places: z.array(z.object({ base: ByteString, path: ByteString, mtimeNs: z.string() })).max(20_000),
    destination: ByteString,
    /** Where all of it was taken, where that is one place. */
    cameFrom: ByteString.nullable(),
  }),
]);
export type Question = z.infer<typeof Question>;
export type ReadQuestion = Extract<Question, { ask: 'read' }>;
export type RebuildQuestion = Extract<Question, { ask: 'rebuild' }>;
export const Asked = z.object({ id: Uuid.nullable(), question: Question.nullable() });
export const Answer = z.object({ ok: z.boolean(), answer: z.unknown() });

/** Of the host a mover runs on. */
export const Hardware = z.object({
  processors: z.int().min(1),
  /** Bytes. */
  memory: z.number().nonnegative(),
  system: z.string().max(120),
});
export type Hardware = z.infer<typeof Hardware>;

/** What a mover's host was busy with since it last told; rates in bytes a second, null where the system does not say. */
export const HostSample = z.object({
  /** Share of the processors' time, 0 to 1. */
  processor: z.number().min(0).max(1),
  /** Share of the memory in use, 0 to 1. */
  memory: z.number().min(0).max(1),
  received: z.number().nonnegative().nullable(),
  sent: z.number().nonnegative().nullable(),
  read: z.number().nonnegative().nullable(),
  written: z.number().nonnegative().nullable(),
});
export type HostSample = z.infer<typeof HostSample>;

export const Beat = z.object({ mover: MoverName, hardware: Hardware, sample: HostSample });
/** How many tasks the mover may run at once; none while it is drained. */
export const BeatAnswer = z.object({ tasks: z.int().min(0).max(16) });

/** What a machine says of itself that was started from a recovery medium. */
export const TellUnit = z.object({ unit: UnitName, speaks: Count, facts: UnitFacts });

export const Join = z.object({ code: z.string().min(10).max(100), mover: MoverName });
export const Joined = z.object({ token: z.string() });
