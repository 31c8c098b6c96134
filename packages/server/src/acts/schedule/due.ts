import { dueSince, isRested, windowAt } from '@lithodex/core';
import type { PolicyRule } from '@lithodex/contract';
import type { Knex } from 'knex';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../deps';
import { ApiError } from '../../base/errors';
import { assign, matchesOf, policiesInForce, type PolicyRow } from '../../records/policies/matching';
import { startPolicy } from '../runs/queue';
import { newestRun } from './newest-run';
import { inOrder, minutesAfter, passedOver, PointsTaken, type DueRule } from './what-is-due';

/** When the policy that is followed last ended well after `since` (ms). */
async function followedEnd(trx: Knex.Transaction, policyId: number, since: number): Promise<number | undefined> {
  const run = await trx('run')
    .where({ policy_id: policyId, kind: 'backup' })
    .whereIn('state', ['done', 'remarks', 'partsMissing'])
    .where('ended_at', '>', since)
    .max({ at: 'ended_at' })
    .first<{ at: number | null }>();
  return run.at ?? undefined;
}

/** When a rule that runs all the time is due again: not while its newest run goes on, and after one that failed not before so many other minutes have passed. */
async function restedSince(
  trx: Knex.Transaction,
  now: number,
  { id, body }: PolicyRow,
  ruleNo: number,
  since: number,
  pauseMinutes: number,
  afterFailure: number,
): Promise<number | undefined> {
  if (body.window && !windowAt(body.window, body.zone, now).open) return undefined;
  const newest = await newestRun(trx, { policyId: id, ruleNo });
  if (newest?.ended_at === null) return undefined;
  const pause = newest?.state === 'failed' ? afterFailure : pauseMinutes;
  // nothing of it was missed, however long it had to wait
  return isRested(body, pause, Math.max(since, newest?.ended_at ?? since), now) ? now : undefined;
}

/** See {@link minutesAfter}. */
async function afterFailures(trx: Knex.Transaction, policyId: number, ruleNo: number): Promise<number> {
  const rows = await trx('run')
    .where({ policy_id: policyId, rule_no: ruleNo, kind: 'backup' })
    .orderBy('queued_at', 'desc')
    .limit(6)
    .select<{ state: string }[]>('state');
  return minutesAfter(rows.map((r) => r.state));
}

/** When a rule came due last after `since` (ms), several missed times as one; undefined where it is not due. */
async function dueTime(
  trx: Knex.Transaction,
  now: number,
  policy: PolicyRow,
  { no, schedule }: PolicyRule,
  since: number,
): Promise<number | undefined> {
  switch (schedule.every) {
    case 'after':
      return followedEnd(trx, schedule.policyId, since);
    case 'continuous':
      return restedSince(
        trx,
        now,
        policy,
        no,
        since,
        schedule.pauseMinutes,
        Math.max(schedule.pauseMinutes, policy.body.retries.pauseMinutes),
      );
    case 'moment':
      return restedSince(trx, now, policy, no, since, 0, await afterFailures(trx, policy.id, no));
    default:
      return dueSince({ ...policy.body, schedule }, since, now);
  }
}

/** What a round has come to. */
export interface DueRound {
  /** Platforms to be read before a policy that is due can start. */
  readonly wanted: ReadonlySet<number>;
}

/** Platforms that were not asked since a policy became due, where it picks by what there is: machines may have come or gone. */
async function notReadSince(trx: Knex.Transaction, { body }: PolicyRow, due: number): Promise<number[]> {
  if (!body.rule && !body.tags.length) return [];
  const rows = await trx('source')
    .where({ kind: 'platform' })
    .where((q) => void q.whereNull('tried_at').orWhere('tried_at', '<', due))
    .select<{ id: number }[]>('id');
  return rows.map((r) => r.id);
}

/** The rules of a policy whose time has come, those that read most first. */
async function dueRules(trx: Knex.Transaction, now: number, policy: PolicyRow): Promise<DueRule[]> {
  const { id, body } = policy;
  const clocks = await trx('policy_clock').where({ policy_id: id }).forUpdate().select<{ rule_no: number; last_due: number }[]>();
  const times = new Map<number, number>();
  for (const rule of body.rules) {
    const since = clocks.find((c) => c.rule_no === rule.no)?.last_due ?? now;
    const due = await dueTime(trx, now, policy, rule, since);
    if (due !== undefined) times.set(rule.no, due);
  }
  return inOrder(body.rules, times);
}

/**
 * Starts the rules of a policy that are due. Where several come due together and write to the same target, the one that reads most of the source takes the point for all of them: a weekly full
 * takes the place of that day's incremental. A log is taken beside all others.
 */
async function startIfDue(trx: Knex.Transaction, now: number, policy: PolicyRow, wanted: Set<number>): Promise<number[]> {
  const runs: number[] = [];
  const taken = new PointsTaken();
  for (const { rule, due } of await dueRules(trx, now, policy)) {
    if (taken.covers(rule)) {
      await clockTo(trx, policy.id, rule, due);
      continue;
    }
    const run = await startRule(trx, now, policy, rule, due, wanted);
    if (!run) continue;
    runs.push(run.id);
    // what is only recorded as not started takes no point
    if (run.starts) taken.take(rule);
  }
  return runs;
}

async function clockTo(trx: Knex.Transaction, policyId: number, rule: PolicyRule, due: number): Promise<void> {
  await trx('policy_clock').where({ policy_id: policyId, rule_no: rule.no }).update({ last_due: due });
}

async function startRule(
  trx: Knex.Transaction,
  now: number,
  policy: PolicyRow,
  rule: PolicyRule,
  due: number,
  wanted: Set<number>,
): Promise<{ readonly id: number; readonly starts: boolean } | undefined> {
  const { id, body } = policy;
  const within = body.window ? windowAt(body.window, body.zone, now) : undefined;
  const cause = passedOver(body.catchUp, due, now, within);
  if (!cause && within && !within.open) return undefined;
  const unread = cause ? [] : await notReadSince(trx, policy, due);
  if (unread.length) {
    for (const source of unread) wanted.add(source);
    return undefined;
  }
  await clockTo(trx, id, rule, due);
  const matches = (await matchesOf(trx, body)).map((m) => m.id);
  await assign(trx, now, id, matches);
  try {
    const window = within && body.window ? { ends: within.ends, stop: body.window.stop } : undefined;
    const runId = await startPolicy(trx, now, policy, [rule], matches, { startedBy: 'schedule', person: '', ...(window && { window }) });
    if (cause) {
      const ended = { state: 'notStarted', ended_at: now };
      await trx('task')
        .where({ run_id: runId })
        .update({ ...ended, cause: JSON.stringify(cause) });
      await trx('run').where({ id: runId }).update(ended);
    }
    return { id: runId, starts: !cause };
  } catch (error) {
    if (error instanceof ApiError && error.code === 'NOT_NOW') return undefined;
    throw error;
  }
}

/** Starts every policy whose time has come and whose window is open; what has passed and is not made good is recorded as not started. */
export async function startDue(deps: Deps): Promise<DueRound> {
  const wanted = new Set<number>();
  for (const policy of await policiesInForce(deps.db)) {
    try {
      for (const runId of await inTransaction(deps.db, (trx) => startIfDue(trx, deps.clock.now(), policy, wanted))) {
        deps.movers.workAppeared();
        await deps.events.emit('run', { runId });
      }
    } catch (error) {
      // the other policies start all the same
      deps.log.warn({ err: error, policy: policy.id }, 'a policy could not be started');
    }
  }
  return { wanted };
}
