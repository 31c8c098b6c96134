import { formatDuration } from '@lithodex/core';
import type { FoundMatter } from '@lithodex/contract';
import { appendAudit } from '../../base/audit/trail';
import { inTransaction } from '../../base/db/open';
import { ApiError } from '../../base/errors';
import { dueTrials, endTrial, type TrialMachine } from '../../records/systems/made-machines';
import { platformRef, type PlatformRow } from '../../records/systems/platform-rows';
import type { Deps } from '../deps';
import { readAllPlatforms } from '../estate/read-platform';

const askMs = 60_000;
/** So long a removal may be late before somebody is told. */
const lateMs = 15 * 60_000;

/** Has machines removed whose trial is over. What can't be removed now is tried again in the next round. */
export async function removeDueTrials(deps: Deps): Promise<void> {
  const removed = new Set<number>();
  for (const trial of await dueTrials(deps.db, deps.clock.now()))
    try {
      if (await remove(deps, trial)) removed.add(trial.sourceId);
    } catch (error) {
      if (!(error instanceof ApiError)) throw error;
      deps.log.warn({ err: error, source: trial.sourceId }, 'a machine that was made for a trial could not be removed');
    }
  if (removed.size) await readAllPlatforms(deps, removed);
}

/** False where the cloud is not connected any more: then nobody can. */
async function remove(deps: Deps, trial: TrialMachine): Promise<boolean> {
  const { db, clock } = deps;
  const row = await db('source').where({ id: trial.sourceId, kind: 'platform' }).whereNotNull('secret').first<PlatformRow | undefined>();
  if (row) {
    const { outerId: machine, taskId } = trial;
    await deps.movers.ask({ ask: 'removeMade', platform: platformRef(deps.secrets, row), machine, taskId }, askMs);
  }
  await inTransaction(db, async (trx) => {
    await endTrial(trx, trial);
    const detail = row ? `on ${row.name}` : 'its cloud is not connected any more: it was left';
    await appendAudit(trx, clock.now(), { actor: 'Lithodex', action: 'trial.end', object: `workload ${trial.workloadId}`, detail });
  });
  return row !== undefined;
}

/** Machines of trials that should have been gone for a while, as they cost something each hour. */
export async function trialMatters(deps: Deps): Promise<FoundMatter[]> {
  const now = deps.clock.now();
  const late = await dueTrials(deps.db, now - lateMs);
  if (!late.length) return [];
  const rows = await deps
    .db('workload')
    .whereIn(
      'outer_id',
      late.map((t) => t.outerId),
    )
    .select<{ source_id: number; outer_id: string; name: string }[]>('source_id', 'outer_id', 'name');
  return late.map((trial) => {
    const name = rows.find((r) => r.source_id === trial.sourceId && r.outer_id === trial.outerId)?.name ?? trial.outerId;
    return {
      id: `trial-${trial.sourceId}-${trial.outerId}`,
      level: 'warning',
      title: `${name} was to be removed ${formatDuration(now - trial.removeAt)} ago`,
      text: 'It was made for a trial and costs something each hour. It is tried again all the time; where somebody took its disks or added others, remove it there.',
      since: trial.removeAt,
      action: { label: 'Open the connection', link: `/estate/platforms/${trial.sourceId}`, query: {} },
      second: null,
    };
  });
}
