import { z } from 'zod';
import { DatabaseCommit, DatabaseFamily, DatabaseInside, RowsCompared, RowsInside, SystemAddress, TableInside } from '@lithodex/kinds';
import { Bytes, Count, EscapedPath, Id, Instant, Name, Named, QueryInstant, Reason, Uuid } from './common';
import { ReadBy } from './estate';

export { FoundWorkload, PointFacts, SystemAddress, SystemTest, WorkloadFacts } from '@lithodex/kinds';

/** A database server inside a machine that nobody has connected: `by` is the program its helper names. */
export const ServerInMachine = z.object({ workload: Named, family: DatabaseFamily, by: z.string(), location: z.string() });

/** A system to connect whose workloads are found there. `secret` opens it; null to leave it as it is. Of an office tenant: JSON text with what opens each service. */
export const SystemBody = z.object({
  name: Name,
  location: z.string().trim().max(80).default(''),
  address: SystemAddress,
  readBy: ReadBy,
  secret: z.string().min(1).max(26_000).nullable(),
});
export type SystemBody = z.infer<typeof SystemBody>;

export const System = z.object({
  id: Id,
  name: z.string(),
  location: z.string(),
  address: SystemAddress,
  readBy: z.string().nullable(),
  credentialEnds: Instant.nullable(),
  /** When it was read last; null while it was not. */
  readAt: Instant.nullable(),
  trouble: z.string().nullable(),
  workloads: z.array(z.object({ id: Id, name: z.string() })),
});
export type System = z.infer<typeof System>;

/** What the runs of thirty days asked of an object storage, by bucket. */
export const StorageUse = z.object({
  days: z.int(),
  rows: z.array(
    z.object({
      workload: Named,
      runs: Count,
      lists: Count,
      reads: Count,
      facts: Count,
      /** Bytes that were read. */
      bytes: Bytes,
      /** What it holds by its newest point. */
      holds: z.object({ objects: Count, bytes: Bytes }),
    }),
  ),
  /** What looking for new buckets takes in the same time. */
  looking: z.object({ lists: Count, facts: Count }),
});
export type StorageUse = z.infer<typeof StorageUse>;

/** Where a database server can be brought back to: any second inside a stretch. */
export const Band = z.object({
  stretches: z.array(
    z.object({
      /** From the first full on; null while there is none. */
      from: Instant.nullable(),
      /** What the log itself knows of. */
      logged: Instant,
      to: Instant,
      /** Why nothing is known of the time before. */
      cause: z.string(),
    }),
  ),
  fulls: z.array(z.object({ pointId: Uuid, moment: Instant, logged: z.boolean(), bytes: Bytes })),
  log: z.object({ pointId: Uuid, moment: Instant, bytes: Bytes }).nullable(),
  /** How old the newest second may be, in minutes; null where nobody said. */
  objectiveMinutes: z.int().positive().nullable(),
  /** Commits that took much away. */
  notable: z.array(DatabaseCommit),
});
export type Band = z.infer<typeof Band>;

export const CommitsQuery = z.object({
  at: QueryInstant,
  before: z.coerce.number().int().min(0).max(200).default(8),
  after: z.coerce.number().int().min(0).max(200).default(8),
});
export const BandCommits = z.object({ rows: z.array(DatabaseCommit) });
export type BandCommits = z.infer<typeof BandCommits>;

/** A table that a restore put beside the one that was there: under its name with `suffix`. */
export const BesideTable = z.object({ taskId: Uuid, path: EscapedPath, database: z.string(), table: z.string(), suffix: z.string() });
export type BesideTable = z.infer<typeof BesideTable>;
/** Which one of a run. */
export const BesideQuery = z.object({ task: Uuid, path: EscapedPath });
export const SwapBody = BesideQuery.extend({ reason: Reason });
/** What a scratch server holds that a restore left up, of which moment, and whether what stands there now can be read beside it. */
export const Inside = DatabaseInside.extend({
  workload: z.string(),
  workloadId: Id,
  at: Instant,
  mover: z.string(),
  comparable: z.boolean(),
  /** Whether it is of a moment of the log, and `file@position` of the commit that it is right before. */
  toSecond: z.boolean(),
  commit: z.string().nullable(),
});
export type Inside = z.infer<typeof Inside>;
export const InsideRowsQuery = TableInside.extend({
  column: z.string().max(300).optional(),
  text: z.string().max(300).optional(),
  offset: z.coerce.number().int().min(0).max(1_000_000_000).default(0),
});
export const InsideRows = RowsInside.extend({ offset: Count });
export type InsideRows = z.infer<typeof InsideRows>;
export const BesideRows = RowsCompared.extend({ server: z.string() });
export type BesideRows = z.infer<typeof BesideRows>;
