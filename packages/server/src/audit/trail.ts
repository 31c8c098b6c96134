import { createHash } from 'node:crypto';
import type { Knex } from 'knex';

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

/** Appends one row in the caller's transaction; a lock keeps the chain in one line. */
export async function appendAudit(trx: Knex.Transaction, at: number, entry: AuditEntry): Promise<void> {
  await trx.raw('INSERT IGNORE INTO setting (name, value) VALUES (?, ?)', ['audit-head', JSON.stringify({ hash: origin, rows: 0 })]);
  const head = await trx('setting').where({ name: 'audit-head' }).forUpdate().first<{ value: string | { hash: string; rows: number } }>();
  const value = typeof head?.value === 'string' ? (JSON.parse(head.value) as { hash: string; rows: number }) : head.value;
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
  const head = await db('setting').where({ name: 'audit-head' }).first<{ value: string | { hash: string; rows: number } } | undefined>();
  const value = head && (typeof head.value === 'string' ? (JSON.parse(head.value) as { hash: string; rows: number }) : head.value);
  const intact = !value || (value.hash === previous && value.rows === rows);
  return { rows, intact, brokenAt: intact ? null : last + 1 };
}
