import type { Knex } from 'knex';
import type { RuleId } from '../runs/queue';
import type { RunRecord } from '../../records/runs/run-rows';

/** A run as the scheduler looks at it. */
export type NewestRun = RunRecord & { readonly kind: 'backup'; readonly retried: number };

/** The newest backup of a rule, locked: in the order of the index, as a policy may have run very often. */
export function newestRun(trx: Knex.Transaction, { policyId, ruleNo }: RuleId): Promise<NewestRun | undefined> {
  return trx('run')
    .where({ policy_id: policyId, rule_no: ruleNo, kind: 'backup' })
    .orderBy([
      { column: 'queued_at', order: 'desc' },
      { column: 'id', order: 'desc' },
    ])
    .forUpdate()
    .first<NewestRun | undefined>();
}
