import { countOf, formatFirst, formatMoment } from '@lithodex/core';
import type { FoundMatter } from '@lithodex/contract';
import { fromJson } from '../../base/db/json';
import { drillSettings, lastDrills, type DrillEvidence } from '../../records/trust/drill-rows';
import type { Deps } from '../deps';
import { rotaNow } from '../trust/drill-rota';

const dayMs = 86_400_000;

/** Workloads whose last drill did not pass, one by one; and, where drills are on, those that none has come to in time. */
export async function drillMatters({ db, clock, config }: Deps): Promise<FoundMatter[]> {
  const last = await lastDrills(db);
  const failed = [...last.values()].filter((d) => d.passed === 0);
  const found = failed.map((drill): FoundMatter => {
    const { workload, results, pointMoment } = fromJson<DrillEvidence>(drill.evidence);
    const first = results.find((r) => !r.passed);
    return {
      id: `drill-${drill.workload_id}`,
      level: 'fault',
      title: `The drill of ${workload} did not pass`,
      text: `${first ? `${first.what}: ${first.found}. ` : ''}Its point of ${formatMoment(pointMoment, config.zone)} was tried.`,
      since: drill.at,
      action: { label: 'See the evidence', link: `/trust/drills/${drill.id}`, query: {} },
      second: { label: 'Drills', link: '/trust/drills', query: {} },
    };
  });
  const settings = await drillSettings(db);
  if (!settings.on) return found;
  const since = clock.now() - settings.within * dayMs;
  const stale = (await rotaNow(db, clock.now())).filter((r) => r.last !== undefined && r.last.at < since && r.plan.weight > 0);
  if (stale.length)
    found.push({
      id: 'drills-stale',
      level: 'warning',
      title: `${countOf(stale.length, 'workload')} ${stale.length === 1 ? 'was' : 'were'} not drilled for ${settings.within} days`,
      text: `${formatFirst(
        stale.map((r) => r.workload.name),
        4,
      )}. At ${settings.nightly} a night the rota does not come round: drill more of them, or leave some out.`,
      since: Math.min(...stale.map((r) => r.last!.at)) + settings.within * dayMs,
      action: { label: 'Drills', link: '/trust/drills', query: {} },
      second: null,
    });
  return found;
}
