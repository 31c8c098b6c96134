import { windowAt } from '@lithodex/core';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../deps';
import { ApiError } from '../../base/errors';
import { policiesInForce, type PolicyRow } from '../../records/policies/matching';
import { retry } from '../runs/retry';
import { newestRun } from './newest-run';

const minuteMs = 60_000;

async function retryIfDue(deps: Deps, { id, body }: PolicyRow, ruleNo: number): Promise<number | undefined> {
  const now = deps.clock.now();
  const within = body.window ? windowAt(body.window, body.zone, now) : undefined;
  if (within && !within.open) return undefined;
  return inTransaction(deps.db, async (trx) => {
    // nothing is tried again that a later run has tried already
    const run = await newestRun(trx, { policyId: id, ruleNo });
    if (run?.state !== 'failed' || run.retried >= body.retries.times) return undefined;
    if (run.ended_at === null || run.ended_at + body.retries.pauseMinutes * minuteMs > now) return undefined;
    try {
      const window = within && body.window ? { ends: within.ends, stop: body.window.stop } : undefined;
      const how = { person: '', retried: run.retried + 1, priority: body.priority, ...(window && { window }) };
      return await retry(trx, now, run, ['failed'], how);
    } catch (error) {
      if (error instanceof ApiError && error.code === 'NOT_NOW') return undefined;
      throw error;
    }
  });
}

/** Tries again what failed in the newest run of each rule of a policy, as often and after the pause that the policy says. */
export async function retryFailed(deps: Deps): Promise<void> {
  for (const policy of await policiesInForce(deps.db)) {
    if (!policy.body.retries.times) continue;
    for (const { no } of policy.body.rules) {
      const runId = await retryIfDue(deps, policy, no);
      if (runId === undefined) continue;
      deps.movers.workAppeared();
      await deps.events.emit('run', { runId });
    }
  }
}
