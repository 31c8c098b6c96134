import { z } from 'zod';
import { KindName } from '@lithodex/kinds';
import { Bytes, Count, Empty, EscapedPath, Id, Instant, Reason, Uuid } from './common';
import { everyRole, keepers, readers } from './roles';
import { byId, byUuid, route } from './route';

const Score = z.int().min(0).max(100);

export const ChangedPoint = z.object({
  id: Uuid,
  moment: Instant,
  /** How far from what is usual for its workload. */
  score: Score,
  /** Share of what was there that changed or went, 0–1. */
  share: z.number(),
  suspect: z.boolean(),
  first: z.boolean(),
});
export type ChangedPoint = z.infer<typeof ChangedPoint>;

export const ChangedWorkload = z.object({
  id: Id,
  name: z.string(),
  kind: KindName,
  /** From which score on its points are held; 101 for never. */
  holdFrom: z.int(),
  /** Points that taught what is usual so far. */
  learned: Count,
  /** What stands out most, in words; '' for nothing. */
  reason: z.string(),
  points: z.array(ChangedPoint),
});
export type ChangedWorkload = z.infer<typeof ChangedWorkload>;

/** Change of the newest points against what is usual for each workload, the most unusual first. */
export const Changes = z.object({
  from: Instant,
  to: Instant,
  /** Points it takes to know what is usual. */
  pointsToLearn: Count,
  rows: z.array(ChangedWorkload),
  /** Workloads that stayed in their usual and are not among the rows. */
  others: Count,
});
export type Changes = z.infer<typeof Changes>;

export const damageKinds = ['inPlace', 'twin', 'gone'] as const;
export const DamagedRow = z.object({
  path: EscapedPath,
  how: z.enum(damageKinds),
  /** What stands beside where it stood. */
  twin: EscapedPath.nullable(),
  size: Bytes,
  /** When what stands there now was written. */
  since: Instant.nullable(),
  clean: z.object({ pointId: Uuid, moment: Instant }),
});
export type DamagedRow = z.infer<typeof DamagedRow>;

/** What a point is judged by, and what it found damaged. */
export const PointChange = z.object({
  id: Uuid,
  workload: z.object({ id: Id, name: z.string() }),
  moment: Instant,
  score: Score,
  suspect: z.boolean(),
  share: z.number(),
  signs: z.array(z.object({ code: z.string(), score: Score, reason: z.string() })),
  /** What a person said of it. */
  said: z.object({ as: z.enum(['usual', 'damage']), by: z.string(), at: Instant, reason: z.string() }).nullable(),
  /** Sensitive data that stood in the workload by then, as far as it was looked for: what an intruder would have read. */
  exposed: z
    .object({ files: Count, findings: Count, patterns: z.array(z.string()) })
    .nullable()
    .default(null),
  damage: z
    .object({
      files: Count,
      bytes: Bytes,
      /** Told by what became of each item; else it is all that changed or went. */
      precise: z.boolean(),
      /** When the first of what stands there now was written. */
      firstAt: Instant.nullable(),
      good: z.object({ id: Uuid, moment: Instant }),
      folders: z.array(z.object({ folder: EscapedPath, inPlace: Count, twin: Count, gone: Count })),
      /** Folders beside these. */
      otherFolders: Count,
      rows: z.array(DamagedRow),
    })
    .nullable(),
});
export type PointChange = z.infer<typeof PointChange>;

export const changeRoutes = {
  listChanges: route({
    method: 'get',
    path: '/changes',
    summary: 'How far the points of the last days are from what is usual for their workloads',
    access: readers,
    query: z.object({ days: z.coerce.number().int().min(1).max(90).default(14), workload: z.coerce.number().int().optional() }),
    response: Changes,
  }),
  pointChange: route({
    method: 'get',
    path: '/points/:id/change',
    summary: 'What a point is judged by, and each item it found damaged with its last clean version',
    access: everyRole,
    params: byUuid,
    query: z.object({ from: z.coerce.number().int().min(0).default(0), limit: z.coerce.number().int().min(1).max(1000).default(200) }),
    response: PointChange,
  }),
  sayOfPoint: route({
    method: 'put',
    path: '/points/:id/said',
    summary: 'Say that a point is usual, so that it teaches what is, or that it shows damage, so that it is held',
    access: keepers,
    params: byUuid,
    body: z.object({ as: z.enum(['usual', 'damage']), reason: Reason }),
    response: Empty,
  }),
  setHoldFrom: route({
    method: 'put',
    path: '/workloads/:id/hold-from',
    summary: 'Set from which score on the points of a workload are held; 101 for never',
    access: keepers,
    params: byId,
    body: z.object({ holdFrom: z.int().min(20).max(101) }),
    response: Empty,
  }),
} as const;
