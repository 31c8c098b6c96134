import type { PolicyStart } from '@lithodex/contract';
import type { Knex } from 'knex';
import { fromJson } from '../../base/db/json';
import { policiesInForce } from '../../records/policies/matching';

const setting = 'policy-start';

/** What new policies start from. A policy that has ended since is none any more. */
export async function policyStart(db: Knex): Promise<PolicyStart> {
  const row = await db('setting').where({ name: setting }).first<{ value: unknown } | undefined>('value');
  const chosen = row && fromJson<{ policyId: number | null }>(row.value).policyId;
  const policy = chosen && (await policiesInForce(db)).find((p) => p.id === chosen);
  if (!policy) return { policyId: null, terms: null };
  const { name: _name, workloads: _workloads, tags: _tags, rule: _rule, except: _except, ...terms } = policy.body;
  return { policyId: policy.id, terms };
}

/** Lets new policies start from one, or from none. */
export async function setPolicyStart(trx: Knex.Transaction, policyId: number | null): Promise<void> {
  const value = JSON.stringify({ policyId });
  await trx('setting').insert({ name: setting, value }).onConflict().merge({ value });
}
