import { z } from 'zod';
import { Cluster, DatabaseFamily, KindName, ObjectName, PlatformRef } from '@lithodex/kinds';
import { Bytes, ClockTime, Count, Empty, EscapedPath, Id, Instant, QueryId, Uuid } from './common';
import { ScriptName } from './policy';
import { readers, keepers, runners } from './roles';
import { byId, byUuid, route } from './route';

/** What is looked at once a workload is back, beside what is always looked at. `path`: in the point, '' for all of it. */
export const DrillCheck = z.discriminatedUnion('check', [
  /** A file that has to be there; with this SHA-256, or with this text in it, where one is given. */
  z.object({
    check: z.literal('file'),
    path: EscapedPath.min(1),
    sum: z
      .string()
      .regex(/^([0-9a-f]{64})?$/, 'a SHA-256 of 64 hexadecimal digits')
      .default(''),
    holds: z.string().max(500).default(''),
  }),
  /** So many files (messages, objects) at least, below a folder. */
  z.object({ check: z.literal('count'), path: EscapedPath, least: Count }),
  /** The first value of the first row that a query of a database gives. */
  z.object({
    check: z.literal('query'),
    database: ObjectName,
    sql: z.string().trim().min(6).max(4000),
    is: z.enum(['equal', 'least']),
    value: z.string().trim().max(200),
  }),
  /** What runs inside a machine, as its helper tells. */
  z.object({ check: z.literal('service'), name: z.string().trim().min(1).max(120) }),
  /** A script of the mover's own folder, which is told where everything is. */
  z.object({ check: z.literal('script'), name: ScriptName, minutes: z.int().min(1).max(240).default(15) }),
]);
export type DrillCheck = z.infer<typeof DrillCheck>;

/** Where a workload is brought back to in a drill: a place of its own that nobody works with, which is removed afterwards. */
export const DrillRoom = z.discriminatedUnion('in', [
  z.object({ in: z.literal('folder') }),
  z.object({ in: z.literal('scratch'), family: DatabaseFamily }),
  z.object({ in: z.literal('machine'), platform: PlatformRef, host: z.string(), folder: z.string() }),
  z.object({ in: z.literal('namespace'), server: Cluster }),
]);
export type DrillRoom = z.infer<typeof DrillRoom>;

/** One thing that was looked at. `found`: what was there instead, or how it was. */
export const DrillResult = z.object({ what: z.string().max(500), found: z.string().max(1000), passed: z.boolean() });
export type DrillResult = z.infer<typeof DrillResult>;
export const DrillStep = z.object({ name: z.string().max(60), ms: Count });
export type DrillStep = z.infer<typeof DrillStep>;

/** What came of a drill. `usableMs`: from its begin until all of it was back and looked at; null where it never came back. `left`: what could not be removed, '' for nothing. */
export const DrillTold = z.object({
  attempt: z.int().positive(),
  room: z.string().max(300),
  steps: z.array(DrillStep).max(20),
  usableMs: Count.nullable(),
  items: Count,
  bytes: Bytes,
  results: z.array(DrillResult).min(1).max(60),
  left: z.string().max(1000),
});
export type DrillTold = z.infer<typeof DrillTold>;

/** How one workload is drilled. */
export const DrillPlan = z.object({
  checks: z.array(DrillCheck).max(20),
  /** Within how many seconds it has to be usable; null where nobody said. */
  objective: z
    .int()
    .min(1)
    .max(30 * 86_400)
    .nullable(),
  /** How much it matters: 1, 2 or 3. 0: the rota leaves it out. */
  weight: z.int().min(0).max(3),
});
export type DrillPlan = z.infer<typeof DrillPlan>;

/** The rota: by itself, at this time of each night, so many workloads. */
export const DrillSettings = z.object({
  on: z.boolean(),
  at: ClockTime,
  nightly: z.int().min(1).max(100),
  /** A drill older than this proves nothing. Days. */
  within: z.int().min(1).max(3650),
});
export type DrillSettings = z.infer<typeof DrillSettings>;

/** The evidence of a drill. */
export const DrillRow = z.object({
  id: Uuid,
  runId: Id,
  workload: z.object({ id: Id, name: z.string(), kind: KindName }),
  point: z.object({ id: Uuid, moment: Instant }),
  at: Instant,
  by: z.string(),
  mover: z.string(),
  room: z.string(),
  passed: z.boolean(),
  steps: z.array(DrillStep),
  usableMs: Count.nullable(),
  objective: Count.nullable(),
  items: Count,
  bytes: Bytes,
  results: z.array(DrillResult),
  left: z.string(),
  /** SHA-256 of all of this, which stands in the audit trail too. */
  sum: z.string(),
  /** Entry of the audit trail. */
  audit: Count,
  /** Whether what is kept still is what the audit trail says. */
  sealed: z.boolean(),
});
export type DrillRow = z.infer<typeof DrillRow>;

export const DrilledWorkload = z.object({
  id: Id,
  name: z.string(),
  kind: KindName,
  plan: DrillPlan,
  /** Of the newest point. */
  newest: z.object({ id: Uuid, moment: Instant }),
  last: z.object({ id: Uuid, at: Instant, passed: z.boolean(), usableMs: Count.nullable(), why: z.string() }).nullable(),
  /** When one last passed. */
  proven: Instant.nullable(),
  /** A drill of it waits or runs. */
  open: z.boolean(),
  /** Its place in the rota, counted from 1; null where it is left out. */
  turn: Count.nullable(),
  /** Why it can't be drilled, '' where it can. */
  cannot: z.string(),
});
export type DrilledWorkload = z.infer<typeof DrilledWorkload>;

export const Drills = z.object({
  settings: DrillSettings,
  next: Instant.nullable(),
  rows: z.array(DrilledWorkload),
  /** Workloads with a point, those of which a drill passed within the time that counts, and those of which the last one failed. */
  coverage: z.object({ of: Count, proven: Count, failed: Count }),
});
export type Drills = z.infer<typeof Drills>;

export const drillRoutes = {
  listDrills: route({
    method: 'get',
    path: '/drills',
    summary: 'How far restores are proven: of each workload the last drill, what it took, and its turn',
    access: readers,
    response: Drills,
  }),
  startDrill: route({
    method: 'post',
    path: '/drills',
    summary: 'Try the restore of workloads in places of their own, which are removed afterwards',
    access: runners,
    body: z.object({ workloads: z.array(Id).min(1).max(500) }),
    response: z.object({ runId: Id }),
  }),
  listDrilled: route({
    method: 'get',
    path: '/drill-evidence',
    summary: 'The evidence of drills, the newest first',
    access: readers,
    query: z.object({ workload: QueryId.optional(), run: QueryId.optional() }),
    response: z.object({ rows: z.array(DrillRow) }),
  }),
  drillEvidence: route({
    method: 'get',
    path: '/drill-evidence/:id',
    summary: 'The evidence of one drill, compared with what the audit trail says of it',
    access: readers,
    params: byUuid,
    response: DrillRow,
  }),
  changeDrillPlan: route({
    method: 'put',
    path: '/workloads/:id/drill-plan',
    summary: 'Say what is looked at in drills of a workload, and within what time it has to be usable',
    access: keepers,
    params: byId,
    body: DrillPlan,
    response: Empty,
  }),
  changeDrillSettings: route({
    method: 'put',
    path: '/drill-settings',
    summary: 'Say how many workloads are drilled by themselves, and when',
    access: keepers,
    body: DrillSettings,
    response: Empty,
  }),
} as const;
