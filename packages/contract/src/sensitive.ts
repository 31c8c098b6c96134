import { z } from 'zod';
import { Count, EscapedPath, Id, Instant, QueryId, Reason, Uuid } from './common';
import { keepers, readers } from './roles';
import { route } from './route';

const PatternName = z.string().min(1).max(60);

/** What is looked for: a pattern of a book, with where its form is laid down. */
export const PatternRow = z.object({ id: PatternName, name: z.string(), book: z.string(), source: z.string() });
export type PatternRow = z.infer<typeof PatternRow>;

/** Sensitive data in a workload by one pattern: now, and how much more than a week ago. */
export const SensitiveRow = z.object({
  workload: z.object({ id: Id, name: z.string() }),
  pattern: PatternName,
  findings: Count,
  files: Count,
  /** Findings more than a week before; null where nothing was known then. */
  since: z.int().nullable(),
  /** Findings in files that everybody on their system may read. */
  open: Count,
});
export type SensitiveRow = z.infer<typeof SensitiveRow>;

/** A day on which much more was found than on the one before, and what it came of. */
export const SensitiveJump = z.object({
  at: Instant,
  added: Count,
  workload: z.object({ id: Id, name: z.string() }),
  pattern: PatternName,
  why: z.enum(['newWorkload', 'newData']),
});
export type SensitiveJump = z.infer<typeof SensitiveJump>;

export const Sensitive = z.object({
  patterns: z.array(PatternRow),
  /** Ends of days, and findings by pattern at each. */
  days: z.array(Instant),
  lines: z.array(z.object({ pattern: PatternName, findings: z.array(Count) })),
  rows: z.array(SensitiveRow),
  jump: SensitiveJump.nullable(),
  /** Whether it is looked for at all, and in how many workloads it was. */
  on: z.boolean(),
  looked: Count,
  lookedAt: Instant.nullable(),
});
export type Sensitive = z.infer<typeof Sensitive>;

export const SensitiveFileRow = z.object({
  workload: z.object({ id: Id, name: z.string() }),
  path: EscapedPath,
  owner: z.string(),
  /** Who may read it, of its owner, its group and everybody. */
  readers: z.enum(['owner', 'group', 'everybody']),
  since: Instant,
  counts: z.array(z.object({ pattern: PatternName, findings: Count, sample: z.string() })),
  findings: Count,
});
export type SensitiveFileRow = z.infer<typeof SensitiveFileRow>;

const filesQuery = z.object({
  workload: QueryId.optional(),
  pattern: PatternName.optional(),
  /** Part of a path, or of an owner's name. */
  q: z.string().max(300).optional(),
  cursor: z.string().max(20).optional(),
  limit: z.coerce.number().int().min(1).max(500).default(100),
});

export const sensitiveRoutes = {
  listSensitive: route({
    method: 'get',
    path: '/sensitive',
    summary: 'Sensitive data in the newest points by workload and pattern, and how it came to be so much',
    access: readers,
    query: z.object({ days: z.coerce.number().int().min(7).max(400).default(56), workload: QueryId.optional() }),
    response: Sensitive,
  }),
  sensitiveFiles: route({
    method: 'get',
    path: '/sensitive/files',
    summary: 'Files with sensitive data, those with most of it first; findings are covered but for their ends',
    access: readers,
    query: filesQuery,
    response: z.object({ rows: z.array(SensitiveFileRow), next: z.string().nullable(), files: Count, findings: Count }),
  }),
  sensitiveCsv: route({
    method: 'get',
    path: '/sensitive/files/csv',
    summary: 'The same as CSV, up to 100 000 files',
    access: readers,
    query: filesQuery.omit({ cursor: true, limit: true }),
    raw: true,
  }),
  showSensitive: route({
    method: 'post',
    path: '/sensitive/shown',
    summary: 'Read findings of a file uncovered, out of its backup; who did is in the audit trail, with the reason',
    access: keepers,
    confirmed: true,
    body: z.object({ workload: Id, path: EscapedPath, pattern: PatternName, reason: Reason }),
    response: z.object({
      pointId: Uuid,
      moment: Instant,
      findings: z.array(z.object({ before: z.string(), text: z.string(), after: z.string() })),
    }),
  }),
} as const;
