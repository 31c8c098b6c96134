import { countOf, formatShare, objectiveRecord } from '@lithodex/core';
import type { Deps } from '../deps';
import { presentWorkloads } from '../estate/estate';
import type { Findings, Period } from './findings';

const hourMs = 3_600_000;

/** How long the newest good point of each workload was young enough, by the objective in force now; the worst first. */
export async function objectivesReport(deps: Deps, { from, to }: Period): Promise<Findings> {
  const { db } = deps;
  const workloads = (await presentWorkloads(deps)).filter((w) => w.objectiveHours !== null);
  const longest = Math.max(0, ...workloads.map((w) => w.objectiveHours! * hourMs));
  const points = await db('point')
    .whereIn('state', ['visible', 'expired'])
    .where({ suspect: false })
    .where('moment', '>=', from - longest)
    .where('moment', '<', to)
    .select<{ workload_id: number; moment: number }[]>('workload_id', 'moment');
  const moments = new Map<number, number[]>();
  for (const { workload_id, moment } of points) {
    const known = moments.get(workload_id);
    if (known) known.push(moment);
    else moments.set(workload_id, [moment]);
  }
  const connected = new Map((await deps.estate.workloads()).map((w) => [w.id, w.createdAt]));
  const records = workloads.map((w) => {
    const since = Math.max(connected.get(w.id) ?? from, from - longest);
    return { w, ...objectiveRecord(moments.get(w.id) ?? [], since, w.objectiveHours! * hourMs, from, to) };
  });
  const kept = records.filter((r) => r.breaches === 0).length;
  return {
    says: records.length
      ? `${countOf(kept, 'workload')} of ${records.length} kept the objective all the time (${formatShare(kept / records.length)}).`
      : 'No workload has an objective.',
    columns: [
      { name: 'Workload', as: 'text' },
      { name: 'Source', as: 'text' },
      { name: 'Objective', as: 'span' },
      { name: 'Kept', as: 'share' },
      { name: 'Times too old', as: 'count' },
      { name: 'Oldest it became', as: 'span' },
      { name: 'Policies', as: 'text' },
    ],
    rows: records
      .sort((a, b) => a.within - b.within || b.oldestMs - a.oldestMs || a.w.name.localeCompare(b.w.name))
      .map(({ w, within, breaches, oldestMs }) => [
        w.name,
        w.source.name,
        w.objectiveHours! * hourMs,
        within,
        breaches,
        oldestMs,
        w.policies.map((p) => p.name).join(', '),
      ]),
  };
}
