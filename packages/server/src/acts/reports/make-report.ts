import type { Report, ReportName } from '@lithodex/contract';
import type { Deps } from '../deps';
import { ApiError } from '../../base/errors';
import { coverageReport } from './coverage-report';
import type { Findings, Period } from './findings';
import { growthReport } from './growth-report';
import { objectivesReport } from './objectives-report';
import { restoresReport } from './restores-report';
import { successReport } from './success-report';

const dayMs = 86_400_000;
const usualDays = 30;
const mostDays = 800;

const makers: Readonly<Record<ReportName, (deps: Deps, period: Period) => Promise<Findings>>> = {
  success: successReport,
  objectives: objectivesReport,
  coverage: coverageReport,
  growth: growthReport,
  restores: restoresReport,
};

/** A report over a time that has passed. Throws INVALID for a time that ends before it begins or is too long. */
export async function makeReport(deps: Deps, name: ReportName, asked: Partial<Period>): Promise<Report> {
  const now = deps.clock.now();
  const to = Math.min(asked.to ?? now, now);
  const from = asked.from ?? to - usualDays * dayMs;
  if (from >= to) throw new ApiError('INVALID', [{ at: 'query.from' }], 'The time of a report begins before it ends, and before now.');
  if (to - from > mostDays * dayMs) throw new ApiError('INVALID', [{ at: 'query.from' }], `A report covers ${mostDays} days at most.`);
  return { name, from, to, ...(await makers[name](deps, { from, to })) };
}
