import { countOf, formatFirst, formatMoment } from '@lithodex/core';
import type { FoundMatter } from '@lithodex/contract';
import { drillPlans, drillSettings, failedEvidence, firstFailed, lastDrills, usualPlan } from '../../records/trust/drill-rows';
import type { Deps } from '../deps';

const dayMs = 86_400_000;

/** Workloads whose last drill did not pass, one by one; and, where drills are on, those that none has come to again in time. */
export async function drillMatters({ db, clock, config }: Deps): Promise<FoundMatter[]> {
  const last = await lastDrills(db);
  const failed = await failedEvidence(db, last.values());
  const found = [...last.values()].flatMap((drill): FoundMatter[] => {
    const evidence = failed.get(drill.id);
    if (!evidence) return [];
    return [
      {
        id: `drill-${drill.workload_id}`,
        level: 'fault',
        title: `The drill of ${evidence.workload} did not pass`,
        text: `${firstFailed(evidence)}. Its point of ${formatMoment(evidence.pointMoment, config.zone)} was tried.`,
        since: drill.at,
        action: { label: 'See the evidence', link: `/trust/drills/${drill.id}`, query: {} },
        second: { label: 'Drills', link: '/trust/drills', query: {} },
      },
    ];
  });
  const settings = await drillSettings(db);
  if (!settings.on) return found;
  const since = clock.now() - settings.within * dayMs;
  const plans = await drillPlans(db);
  const stale = [...last.values()].filter((d) => d.at < since && (plans.get(d.workload_id) ?? usualPlan).weight > 0);
  if (!stale.length) return found;
  const names = await db('workload')
    .whereIn(
      'id',
      stale.map((d) => d.workload_id),
    )
    .orderBy('name')
    .select<{ name: string }[]>('name');
  return [
    ...found,
    {
      id: 'drills-stale',
      level: 'warning',
      title: `${countOf(stale.length, 'workload')} ${stale.length === 1 ? 'was' : 'were'} not drilled for ${settings.within} days`,
      text: `${formatFirst(
        names.map((w) => w.name),
        4,
      )}. At ${settings.nightly} a night the rota does not come round: drill more of them, or leave some out.`,
      since: Math.min(...stale.map((d) => d.at)) + settings.within * dayMs,
      action: { label: 'Drills', link: '/trust/drills', query: {} },
      second: null,
    },
  ];
}
