import { createHash } from 'node:crypto';
import type { AuditCheck } from '@lithodex/contract';
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

/** A text as the database will give it back: no longer than it holds, and no half of a character, which it would change. */
const kept = (text: string, length: number) => text.slice(0, length).toWellFormed().replaceAll('\0', '\ufffd');

/** Appends one row in the caller's transaction; a lock keeps the chain in one line. */
export async function appendAudit(trx: Knex.Transaction, at: number, entry: AuditEntry): Promise<void> {
  await trx.raw('INSERT IGNORE INTO setting (name, value) VALUES (?, ?)', ['audit-head', JSON.stringify({ hash: origin, rows: 0 })]);
  const value = await auditHead(trx, (q) => q.forUpdate());
  const row = {
    at,
    actor: kept(entry.actor, 160),
    action: entry.action,
    object: kept(entry.object, 200),
    detail: kept(entry.detail ?? '', 8000),
    previous: value.hash,
  };
  const hash = auditHash(row);
  await trx('audit').insert({ ...row, hash });
  await trx('setting')
    .where({ name: 'audit-head' })
    .update({ value: JSON.stringify({ hash, rows: value.rows + 1 }) });
}

const mostTold = 100;

/** Walks the whole chain, past rows that do not fit, and tells all of them. */
export async function checkAudit(db: Knex): Promise<AuditCheck> {
  let previous = origin;
  let [rows, last, brokenCount] = [0, 0, 0];
  const broken: number[] = [];
  for (;;) {
    const batch = await db('audit').where('seq', '>', last).orderBy('seq').limit(2000).select<Row[]>();
    for (const row of batch) {
      if (row.previous !== previous || auditHash(row) !== row.hash) {
        brokenCount++;
        if (broken.length < mostTold) broken.push(row.seq);
      }
      previous = row.hash;
      last = row.seq;
      rows++;
    }
    if (batch.length < 2000) break;
  }
  const head = await auditHead(db);
  const cutShort = head.rows !== 0 && (head.hash !== previous || head.rows > rows);
  return { rows, intact: brokenCount === 0 && !cutShort, broken, brokenCount, cutShort };
}
