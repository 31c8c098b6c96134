import type { InsideAccount } from '@lithodex/contract';
import type { Knex } from 'knex';
import type { Secrets } from '../../base/secrets';

/** What an account inside is sealed for. */
export const purposeOfInside = (workloadId: number): string => `inside ${workloadId}`;

/** The account inside a machine as movers need it; null where none is kept. */
export async function insideAccount(db: Knex, secrets: Secrets, workloadId: number): Promise<InsideAccount | null> {
  const row = await db('inside_account').where({ workload_id: workloadId }).first<{ secret: Buffer } | undefined>('secret');
  return row ? (JSON.parse(secrets.open(purposeOfInside(workloadId), row.secret)) as InsideAccount) : null;
}
