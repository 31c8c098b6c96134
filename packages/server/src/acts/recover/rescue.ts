import type { Deps } from '../deps';
import type { ResolvedPick } from './resolve-picks';
import { onlyWorkload, type Rescue } from './restore-planner';

/** A point of the only workload of the picks, on the target they stand on; null where it is gone, or there is none to take one to. */
export async function rescueOf(deps: Deps, picks: readonly ResolvedPick[]): Promise<(Rescue & { readonly sourceId: number }) | null> {
  const workloadId = onlyWorkload(picks);
  if (workloadId === null) return null;
  const workload = await deps
    .db('workload')
    .where({ id: workloadId, gone_at: null })
    .first<{ name: string; source_id: number } | undefined>('name', 'source_id');
  const target = await deps
    .db('target as t')
    .join('series as s', 's.target_id', 't.id')
    .where({ 's.no': picks[0]!.point.series_no, 't.retired_to': null })
    .first<{ id: string } | undefined>('t.id');
  return workload && target ? { workloadId, workload: workload.name, targetId: target.id, sourceId: workload.source_id } : null;
}
