import { createHash } from 'node:crypto';
import type { Knex } from 'knex';
import { fromJson } from '../db/json';

export interface AuditEntry {
  readonly actor: string;
  readonly action: string;
  readonly object: string;
  readonly detail?: string;
}

interface Row {
  readonly seq: number;
  readonly at: number;
  readonly actor: string;
  readonly action: string;
  readonly object: string;
  readonly detail: string;
  readonly previous: string;
  readonly hash: string;
}

const origin = '0'.repeat(64);

/** SHA-256 over the previous row's hash and the fields of this one. */
export function auditHash(row: Omit<Row, 'seq' | 'hash'>): string {
  const fields = [row.previous, row.at, row.actor, row.action, row.object, row.detail];
  return createHash('sha256').update(JSON.stringify(fields)).digest('hex');
}

/** How many rows the trail has, and the sum of the last. */
export async function auditHead(
  db: Knex,
  how = (q: Knex.QueryBuilder): Knex.QueryBuilder => q,
): Promise<{ readonly hash: string; readonly rows: number }> {
  const head = await how(db('setting').where({ name: 'audit-head' })).first<{ value: unknown } | undefined>('value');
  return head ? fromJson(head.value) : { hash: origin, rows: 0 };
}

/** Appends one row in the caller's transaction; a lock keeps the chain in one line. */
export async function appendAudit(trx: Knex.Transaction, at: number, entry: AuditEntry): Promise<void> {
  await trx.raw('INSERT IGNORE INTO setting (name, value) VALUES (?, ?)', ['audit-head', JSON.stringify({ hash: origin, rows: 0 })]);
  const value = await auditHead(trx, (q) => q.forUpdate());
  const row = {
    at,
    actor: entry.actor.slice(0, 160),
    action: entry.action,
    object: entry.object.slice(0, 200),
    detail: (entry.detail ?? '').slice(0, 8000),
    previous: value.hash,
  };
  const hash = auditHash(row);
  await trx('audit').insert({ ...row, hash });
  await trx('setting')
    .where({ name: 'audit-head' })
    .update({ value: JSON.stringify({ hash, rows: value.rows + 1 }) });
}

/** Walks the whole chain; `brokenAt` is the first row that does not fit, or the number after the last when rows are missing at the end. */
export async function checkAudit(db: Knex): Promise<{ rows: number; intact: boolean; brokenAt: number | null }> {
  let previous = origin;
  let rows = 0;
  let last = 0;
  for (;;) {
    const batch = await db('audit').where('seq', '>', last).orderBy('seq').limit(2000).select<Row[]>();
    for (const row of batch) {
      if (row.previous !== previous || auditHash(row) !== row.hash) return { rows, intact: false, brokenAt: row.seq };
      previous = row.hash;
      last = row.seq;
      rows++;
    }
    if (batch.length < 2000) break;
  }
  const head = await auditHead(db);
  const intact = head.rows === 0 || (head.hash === previous && head.rows === rows);
  return { rows, intact, brokenAt: intact ? null : last + 1 };
}
