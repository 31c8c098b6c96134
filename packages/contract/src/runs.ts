import { z } from 'zod';
import { ApplicationLook, conflictRules, KindName, placesOfKinds, Until } from '@lithodex/kinds';

export { conflictRules };
import { AttachedAs } from './attached';
import { QueryId, QueryInstant, Bytes, Count, EscapedPath, Id, Instant, ListQuery, mostEdited, Name, Named, Reason, Uuid } from './common';
import { Keep, PointKind } from './policy';
import { RunningMachine } from './running-machine';
import { RunState, runStates } from './run-state';

export const runKinds = ['backup', 'restore', 'download', 'trial', 'copy', 'prune', 'verify', 'adopt', 'scan', 'drill'] as const;
export const RunKind = z.enum(runKinds);
/** How many tasks run at once in all; null for any number. */
export const Limits = z.object({ tasks: z.int().min(1).max(256).nullable() });
export type Limits = z.infer<typeof Limits>;

export const Progress = z.object({
  phase: z.string(),
  items: Count,
  bytes: Bytes,
  read: Bytes,
  fresh: Bytes,
  stored: Bytes,
  expectedItems: Count,
  expectedBytes: Bytes,
  /** Bytes a second over the last seconds. */
  rate: z.number(),
  leftMs: z.number().nullable(),
  /** Of a machine that runs from the store. */
  machine: RunningMachine.optional(),
});
export type Progress = z.infer<typeof Progress>;

export const Cause = z.object({ code: z.string(), message: z.string(), remedy: z.string() });
export type Cause = z.infer<typeof Cause>;

const Counts = z.object({ items: Count, files: Count, bytes: Bytes, read: Bytes, stored: Bytes, warnings: Count, failed: Count });

export const RunRow = z.object({
  id: Id,
  kind: RunKind,
  pointKind: PointKind.nullable(),
  state: RunState,
  trigger: z.enum(['schedule', 'hand', 'onDemand', 'retry']),
  policy: Named.nullable(),
  workloads: z.array(Named),
  workloadCount: Count,
  by: z.string(),
  name: z.string(),
  queuedAt: Instant,
  startedAt: Instant.nullable(),
  endedAt: Instant.nullable(),
  counts: Counts,
  progress: Progress.nullable(),
  cause: Cause.nullable(),
});
export type RunRow = z.infer<typeof RunRow>;

export const TaskRow = z.object({
  id: Uuid,
  workload: Named,
  state: RunState,
  attempt: Count,
  mover: z.string().nullable(),
  startedAt: Instant.nullable(),
  endedAt: Instant.nullable(),
  progress: Progress.nullable(),
  phases: z.array(z.object({ name: z.string(), ms: z.number() })),
  counts: Counts,
  /** Bytes a second by the clock of its mover; null while it runs, and where too little was moved to say. */
  rate: z.number().nullable(),
  cause: Cause.nullable(),
  pointId: Uuid.nullable(),
  buildsOn: Instant.nullable(),
  stopRequested: z.boolean(),
});
export type TaskRow = z.infer<typeof TaskRow>;

export const RunDetail = RunRow.extend({
  tasks: z.array(TaskRow),
  earlier: z.array(z.object({ id: Id, startedAt: Instant, ms: z.number(), bytes: Bytes, read: Bytes, stored: Bytes, state: RunState })),
  reason: z.string(),
  rules: z.string(),
  downloadReady: z.boolean(),
  /** The run of the point that is taken first; null for none. */
  after: z.object({ id: Id, name: z.string(), state: RunState }).nullable(),
});
export type RunDetail = z.infer<typeof RunDetail>;

const list = <T extends string>(values: readonly [T, ...T[]]) =>
  z
    .string()
    .max(300)
    .transform((text) => text.split(',').filter(Boolean))
    .pipe(z.array(z.enum(values)));

/** What (kinds, states), when (from–to), which (ids), how many (limit), whether expired points count. */
export const RunsQuery = ListQuery.extend({
  kinds: list(runKinds).optional(),
  states: list(runStates).optional(),
  from: QueryInstant.optional(),
  to: QueryInstant.optional(),
  workload: QueryId.optional(),
  source: QueryId.optional(),
  policy: QueryId.optional(),
  ids: z
    .string()
    .max(2000)
    .regex(/^\d+(,\d+)*$/)
    .optional(),
  expired: z.enum(['yes', 'no']).optional(),
});

export const LogLine = z.object({
  seq: Id,
  at: Instant,
  taskId: Uuid,
  workload: z.string(),
  level: z.enum(['note', 'warning', 'fault']),
  code: z.string(),
  path: EscapedPath,
  message: z.string(),
});
export type LogLine = z.infer<typeof LogLine>;
export const LogQuery = ListQuery.extend({ level: z.enum(['note', 'warning', 'fault']).optional(), task: Uuid.optional() });

export const OnDemand = z
  .object({
    kind: PointKind.default('incremental'),
    /** A full that takes nothing as stored: all of it is written again. */
    fresh: z.boolean().default(false),
    keep: Keep.nullable().default(null),
    targetId: Uuid.optional(),
    note: z.string().trim().max(200).default(''),
  })
  .refine((d) => !d.fresh || d.kind === 'full', { path: ['fresh'], message: 'Only a full can be stored anew.' });
export const Started = z.object({ runId: Id });

export const Pick = z.object({ pointId: Uuid, path: EscapedPath });
export type Pick = z.infer<typeof Pick>;
export const RestoreBody = z
  .object({
    name: Name.default('Restore'),
    picks: z.array(Pick).max(50_000).default([]),
    /** All files that a suspect point found changed or gone, each in its last good version. */
    damagedIn: Uuid.optional(),
    destination: z.discriminatedUnion('to', [
      /** `removeFirst`: of machines: what has their place is removed, and they are made anew. */
      z.object({ to: z.literal('original'), removeFirst: z.boolean().default(false) }),
      z.object({
        to: z.literal('folder'),
        folder: z.string().regex(/^\//).max(4000),
        keepPath: z.boolean().default(true),
        /** What of it goes to another place below the folder: `as` is a path there, text. */
        exceptions: z
          .array(Pick.extend({ as: z.string().trim().min(1).max(4000) }))
          .max(500)
          .default([]),
      }),
      ...placesOfKinds,
      z.object({ to: z.literal('attached'), as: AttachedAs.default('device'), hours: z.int().min(1).max(72).default(8) }),
      z.object({ to: z.literal('download'), format: z.enum(['tar', 'zip', 'file', 'qcow2', 'ova', 'mbox', 'maildir']) }),
    ]),
    /** Of kinds that write a log: the moment that is wanted; null for that of the points. */
    until: Until.nullable().default(null),
    rule: z.enum(conflictRules).default('leave'),
    /** Of machines: whether they are started once they are back. */
    start: z.boolean().default(false),
    /** The target to read from where a point stands on several; null lets the best be chosen. */
    readFrom: Uuid.nullable().default(null),
    /** Of one item that is text: what takes its place. */
    edited: z.string().min(1).max(mostEdited).optional(),
    /** Take a point of what is replaced first, where that is a workload with points; see the plan. */
    rescue: z.boolean().default(true),
    /** Items that a scan found infected are brought back all the same. */
    despiteInfected: z.boolean().default(false),
    /** Somebody agreed to it that data goes into a cloud at another place than its own, or at one that nobody knows. */
    leavesPlace: z.boolean().default(false),
    reason: Reason,
    trial: z.boolean().default(false),
  })
  .refine((body) => body.picks.length > 0 || body.damagedIn !== undefined, { message: 'nothing is picked', path: ['picks'] });
export type RestoreBody = z.infer<typeof RestoreBody>;
export const PlanBody = z.object({ ...RestoreBody.shape, reason: z.string().max(500).default('') });

const ReadPrice = z.object({ amount: z.number(), currency: z.string() });
export const RestorePlan = z.object({
  items: z.array(
    z.object({
      pick: Pick,
      name: z.string(),
      kind: z.string(),
      workload: z.string(),
      moment: Instant,
      goesTo: z.string(),
      size: Bytes,
      items: Count,
      suspect: z.boolean(),
      workloadId: Id,
      workloadKind: KindName,
      /** Of a whole machine: its disks. */
      disks: z.array(z.object({ label: z.string(), size: Bytes })),
    }),
  ),
  total: z.object({ items: Count, files: Count, bytes: Bytes, picks: Count }),
  readFrom: z.array(z.object({ target: z.string(), points: Count })),
  /** Targets that all picked points stand on, each with how long reading it takes as it was read lately (null where it never was), what that costs at most by its price table (null where it has none), and what has to be fetched first. */
  copies: z.array(
    z.object({
      targetId: Uuid,
      target: z.string(),
      estimateMs: z.number().nullable(),
      price: ReadPrice.nullable(),
      kind: z.enum(['folder', 'bucket', 'cartridges']),
    }),
  ),
  /** What reading it costs at most, by the price tables of the targets; null where none is said. */
  price: ReadPrice.nullable(),
  /** Estimated from measured rates; null until something was measured. */
  estimateMs: z.number().nullable(),
  rate: z.number().nullable(),
  rateFrom: z.string(),
  checks: z.array(z.object({ code: z.string(), level: z.enum(['fine', 'look', 'stop']), text: z.string() })),
  existing: z.object({ looked: Count, exist: Count, newer: Count, complete: z.boolean() }),
  free: Bytes.nullable(),
  /** What would be taken first, so that there is a way back from what is replaced; null where nothing is. */
  rescue: z.object({ workload: z.string(), target: z.string() }).nullable(),
  /** Of an application: what changes on its way, and what would still lead to the old place. */
  application: ApplicationLook.optional(),
});
export type RestorePlan = z.infer<typeof RestorePlan>;

/** Bytes a second in equal parts of the time of a run from `from` on; `read` of other runs than backups is what was moved. */
export const RunRates = z.object({ from: Instant, slotMs: z.number(), read: z.array(z.number()), written: z.array(z.number()) });
