import type { PolicyBody, PolicyVersion } from '@lithodex/contract';
import type { Knex } from 'knex';
import { bodyOf } from './matching';

/** Remembers what a policy says from now on. `by`: who wrote it. */
export async function rememberVersion(trx: Knex.Transaction, policyId: number, now: number, by: string, body: PolicyBody): Promise<void> {
  const last = await trx('policy_version').where({ policy_id: policyId }).max({ no: 'no' }).first<{ no: number | null }>();
  await trx('policy_version').insert({
    policy_id: policyId,
    no: (last.no ?? 0) + 1,
    at: now,
    written_by: by.slice(0, 160),
    body: JSON.stringify(body),
  });
}

/** What a policy said, newest first. */
export async function versionsOf(db: Knex, policyId: number): Promise<PolicyVersion[]> {
  type Row = { no: number; at: number; written_by: string; body: unknown };
  const rows = await db('policy_version').where({ policy_id: policyId }).orderBy('no', 'desc').limit(200).select<Row[]>();
  return rows.map(({ no, at, written_by, body }) => ({ no, at, by: written_by, body: bodyOf(body) }));
}
