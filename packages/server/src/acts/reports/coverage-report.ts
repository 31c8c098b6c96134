import { countOf } from '@lithodex/core';
import type { WorkloadRow } from '@lithodex/contract';
import type { Deps } from '../deps';
import type { Findings, Period } from './findings';

const hourMs = 3_600_000;
const words: Readonly<Record<WorkloadRow['coverage'], string>> = {
  none: 'unprotected',
  matched: 'no point yet',
  suspect: 'held, suspect',
  protected: 'protected',
};

/** Every workload with what protected it at the end of the period; the unprotected first. */
export async function coverageReport(deps: Deps, { to }: Period): Promise<Findings> {
  const past = to < deps.clock.now() ? to : null;
  const all = (await deps.estate.rows(past)).filter((w) => w.gone === null);
  const rows = await deps.estate.shown(all, past);
  const open = rows.filter((w) => w.coverage === 'none').length;
  return {
    says: `${countOf(rows.length, 'workload')}, ${open ? `${open} of them unprotected` : 'all of them protected'}.`,
    columns: [
      { name: 'Workload', as: 'text' },
      { name: 'Kind', as: 'text' },
      { name: 'Source', as: 'text' },
      { name: 'Place', as: 'text' },
      { name: 'Coverage', as: 'text' },
      { name: 'Policies', as: 'text' },
      { name: 'Newest good point', as: 'moment' },
      { name: 'Objective', as: 'span' },
      { name: 'Points', as: 'count' },
      { name: 'Size', as: 'bytes' },
      { name: 'Tags', as: 'text' },
    ],
    rows: rows.map((w) => [
      w.name,
      w.machine?.template ? 'template' : w.kind,
      w.source.name,
      w.source.location || 'unknown',
      w.late ? `${words[w.coverage]}, past the objective` : words[w.coverage],
      w.policies.map((p) => p.name).join(', '),
      w.newestPoint?.moment ?? null,
      w.objectiveHours === null ? null : w.objectiveHours * hourMs,
      w.points,
      w.newestPoint?.bytes ?? null,
      w.tags.join(', '),
    ]),
  };
}
