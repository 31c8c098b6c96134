import { countOf, formatShare } from '@lithodex/core';
import type { RunState } from '@lithodex/contract';
import type { Deps } from '../deps';
import type { Findings, Period } from './findings';

type Row = { policy: string | null; state: RunState; n: number; ms: number | null };
const good: readonly RunState[] = ['done', 'remarks'];

interface Sum {
  all: number;
  good: number;
  parts: number;
  failed: number;
  other: number;
  ms: number;
}

/** Backups of single workloads that ended in the period, by policy; the worst first. */
export async function successReport({ db }: Deps, { from, to }: Period): Promise<Findings> {
  // added up by run first, so that runs are looked up once each
  const ended = db('task')
    .where({ type: 'backup' })
    .where('ended_at', '>=', from)
    .where('ended_at', '<', to)
    .groupBy('run_id', 'state')
    .select('run_id', 'state', db.raw('COUNT(*) AS n, SUM(ended_at - started_at) AS ms'));
  const rows = await db
    .from(ended.as('t'))
    .join('run as r', 'r.id', 't.run_id')
    .leftJoin('policy as p', 'p.id', 'r.policy_id')
    .groupBy('r.policy_id', 'p.name', 't.state')
    .select<Row[]>('p.name as policy', 't.state', db.raw('SUM(t.n) AS n, SUM(t.ms) AS ms'));
  const sums = new Map<string, Sum>();
  for (const { policy, state, n, ms } of rows) {
    const name = policy ?? 'On demand';
    const sum = sums.get(name) ?? { all: 0, good: 0, parts: 0, failed: 0, other: 0, ms: 0 };
    sums.set(name, sum);
    const count = Number(n);
    sum.all += count;
    sum.ms += Number(ms ?? 0);
    if (good.includes(state)) sum.good += count;
    else if (state === 'partsMissing') sum.parts += count;
    else if (state === 'failed') sum.failed += count;
    else sum.other += count;
  }
  const [all, done] = [...sums.values()].reduce(([a, g], s) => [a + s.all, g + s.good], [0, 0]);
  return {
    says: all ? `${formatShare(done / all)} of ${countOf(all, 'backup')} went well.` : 'No backup ended in this time.',
    columns: [
      { name: 'Policy', as: 'text' },
      { name: 'Went well', as: 'share' },
      { name: 'Backups', as: 'count' },
      { name: 'Well', as: 'count' },
      { name: 'Parts missing', as: 'count' },
      { name: 'Failed', as: 'count' },
      { name: 'Cut off, stopped, held or not started', as: 'count' },
      { name: 'Took on average', as: 'span' },
    ],
    rows: [...sums]
      .sort(([a, x], [b, y]) => x.good / x.all - y.good / y.all || a.localeCompare(b))
      .map(([name, s]) => [name, s.good / s.all, s.all, s.good, s.parts, s.failed, s.other, s.ms / s.all]),
  };
}
