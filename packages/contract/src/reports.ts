import { z } from 'zod';
import { QueryInstant, Instant } from './common';
import { readers } from './roles';
import { route } from './route';

export const reportNames = ['success', 'objectives', 'coverage', 'growth', 'restores'] as const;
export const ReportName = z.enum(reportNames);
export type ReportName = z.infer<typeof ReportName>;

/** What each report is about, as its title on screen and in mails. */
export const reportTitles: Readonly<Record<ReportName, string>> = {
  success: 'Success of backups, by policy',
  objectives: 'How objectives were kept',
  coverage: 'What is protected, and by what',
  growth: 'What grew, and what was written',
  restores: 'Restores, by whom and why',
};

/** Numbers of a column: a count, bytes, a share of 1, an instant, or a length of time in ms. */
export const ReportColumn = z.object({ name: z.string(), as: z.enum(['text', 'count', 'bytes', 'share', 'moment', 'span']) });
export type ReportColumn = z.infer<typeof ReportColumn>;
export type ReportCell = string | number | null;

/** Rows stand with what needs attention first. */
export const Report = z.object({
  name: ReportName,
  from: Instant,
  to: Instant,
  /** What it comes to, in a sentence. */
  says: z.string(),
  columns: z.array(ReportColumn),
  rows: z.array(z.array(z.union([z.string(), z.number(), z.null()]))),
});
export type Report = z.infer<typeof Report>;

const params = z.object({ id: ReportName });
/** From-to; the last thirty days when nothing is said. */
const query = z.object({ from: QueryInstant.optional(), to: QueryInstant.optional() });

export const reportRoutes = {
  report: route({
    method: 'get',
    path: '/reports/:id',
    summary: 'A report over a time: success, objectives, coverage, growth, restores',
    access: readers,
    params,
    query,
    response: Report,
  }),
  reportFile: route({
    method: 'get',
    path: '/reports/:id/csv',
    summary: 'The same as CSV: instants in ISO 8601, bytes, shares of 1, lengths of time in seconds',
    access: readers,
    params,
    query,
    raw: true,
  }),
} as const;
