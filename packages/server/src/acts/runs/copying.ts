import type { CopyRule } from '@lithodex/contract';
import type { Knex } from 'knex';
import type { SeriesRow } from '../../records/catalog/points';
import { queueRun, queueTask, type NewTask, type RuleId } from './queue';
import { bodyOf, ruleOf } from '../../records/policies/matching';

const hourMs = 3_600_000;
/** Least age of the newest copied point before the next is copied; a little less than the rhythm says, so that its hour does not wander. */
const leastAge: Record<CopyRule['rhythm'], number> = { every: 0, day: 20 * hourMs, week: 6.5 * 24 * hourMs };
const mostAtOnce = 50;

/** What a copy task keeps. */
export interface CopyPlan {
  readonly targetId: string;
  /** Oldest first. */
  readonly points: readonly string[];
  /** A point of the series that stands on the target already. */
  readonly alike: string | null;
  readonly lockDays: number | null;
}

interface Candidate {
  readonly id: string;
  readonly ordinal: number;
  readonly moment: number;
}

/**
 * Queues the copies that a rule wants after a new point of its own in a series: all sound points of the rule that came after the newest copied one, or only the newest where copies have a
 * rhythm of their own. A series that is being copied there already is left to the next time.
 */
export async function queueCopies(trx: Knex.Transaction, now: number, by: RuleId, series: SeriesRow): Promise<void> {
  const policy = await trx('policy').where({ id: by.policyId, ended: false }).first<{ body: unknown } | undefined>();
  if (!policy) return;
  for (const rule of ruleOf(bodyOf(policy.body), by.ruleNo, series.target_id).copies) {
    const plan = rule.targetId === series.target_id ? undefined : await planCopy(trx, series, by, rule);
    if (!plan) continue;
    const task: NewTask = { workloadId: series.workload_id, seriesNo: series.no, type: 'copy', work: plan };
    const target = await trx('target').where({ id: rule.targetId }).first<{ name: string } | undefined>('name');
    if (target) await addToRun(trx, now, by, `Copies to ${target.name}`, task);
  }
}

async function planCopy(
  trx: Knex.Transaction,
  series: SeriesRow,
  { policyId, ruleNo }: RuleId,
  rule: CopyRule,
): Promise<CopyPlan | undefined> {
  const open = await trx('task')
    .where({ series_no: series.no, type: 'copy' })
    .whereIn('state', ['waiting', 'running'])
    .whereRaw("JSON_VALUE(work, '$.targetId') = ?", [rule.targetId])
    .first<{ id: string } | undefined>('id');
  if (open) return undefined;
  const there = () =>
    trx('point as p')
      .join('copy as c', 'c.point_id', 'p.id')
      .where({ 'p.series_no': series.no, 'c.target_id': rule.targetId, 'c.state': 'present' })
      .orderBy('p.ordinal', 'desc')
      .first<Candidate | undefined>('p.id', 'p.ordinal', 'p.moment');
  const own = { policy_id: policyId, rule_no: ruleNo };
  const alike = await there();
  const copied = await there().where(own);
  const newer = trx('point')
    .where({ series_no: series.no, state: 'visible', suspect: false, ...own })
    .whereNull('keep_own');
  if (copied) void newer.where('ordinal', '>', copied.ordinal);
  const candidates = await newer.orderBy('ordinal', 'desc').limit(mostAtOnce).select<Candidate[]>('id', 'ordinal', 'moment');
  const newest = candidates[0];
  if (!newest || (copied && newest.moment - copied.moment < leastAge[rule.rhythm])) return undefined;
  // the first copy starts with the newest point: what came before is older than the wish to have it copied
  const points = rule.rhythm === 'every' && copied ? candidates.map((c) => c.id).reverse() : [newest.id];
  return { targetId: rule.targetId, points, alike: alike?.id ?? null, lockDays: rule.lockDays };
}

/** Copies that are made at the same time for one rule are one run. */
async function addToRun(trx: Knex.Transaction, now: number, { policyId, ruleNo }: RuleId, name: string, task: NewTask): Promise<void> {
  const open = await trx('run')
    .where({ kind: 'copy', policy_id: policyId, rule_no: ruleNo, name })
    .whereIn('state', ['waiting', 'running'])
    .forUpdate()
    .first<{ id: number } | undefined>('id');
  if (open) await queueTask(trx, now, open.id, task);
  else await queueRun(trx, now, { kind: 'copy', startedBy: 'schedule', policyId, ruleNo, name, person: '', tasks: [task] });
}
