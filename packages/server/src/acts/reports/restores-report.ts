import { countOf } from '@lithodex/core';
import type { Deps } from '../deps';
import { tasksOf, toRunRow, type RunRecord } from '../../records/runs/run-rows';
import type { Findings, Period } from './findings';

/** Restores and downloads asked for in the period, the newest first. */
export async function restoresReport({ db }: Deps, { from, to }: Period): Promise<Findings> {
  const runs = await db('run')
    .whereIn('kind', ['restore', 'download'])
    .where('queued_at', '>=', from)
    .where('queued_at', '<', to)
    .orderBy('id', 'desc')
    .select<RunRecord[]>();
  const tasks = await tasksOf(
    db,
    runs.filter((r) => r.sums === null).map((r) => r.id),
  );
  const rows = runs.map((run) => ({
    run,
    shown: toRunRow(
      run,
      tasks.filter((t) => t.run_id === run.id),
      undefined,
    ),
  }));
  const people = new Set(runs.map((r) => r.person)).size;
  return {
    says: runs.length
      ? `${countOf(runs.length, 'restore')} by ${people === 1 ? 'one person' : `${people} people`}.`
      : 'Nothing was restored in this time.',
    columns: [
      { name: 'Asked for', as: 'moment' },
      { name: 'By', as: 'text' },
      { name: 'Why', as: 'text' },
      { name: 'What', as: 'text' },
      { name: 'Kind', as: 'text' },
      { name: 'Workloads', as: 'text' },
      { name: 'Ended', as: 'text' },
      { name: 'Items', as: 'count' },
      { name: 'Size', as: 'bytes' },
      { name: 'Took', as: 'span' },
      { name: 'Run', as: 'count' },
    ],
    rows: rows.map(({ run, shown }) => [
      run.queued_at,
      run.person,
      run.reason,
      run.name,
      run.kind,
      shown.workloads.map((w) => w.name).join(', '),
      run.state,
      shown.counts.items,
      shown.counts.bytes,
      run.started_at !== null && run.ended_at !== null ? run.ended_at - run.started_at : null,
      run.id,
    ]),
  };
}
