import { PolicyBody } from '@lithodex/contract';
import type { Knex } from 'knex';
import { fromJson } from '../db/json';
import { timetableOf, type PolicyTimetable } from './timetable';

export interface Match {
  readonly id: number;
  readonly name: string;
  readonly why: string;
}

export interface PolicyRow {
  readonly id: number;
  readonly name: string;
  readonly body: PolicyBody;
  /** When it runs, as far as that is known ahead. */
  readonly timetable: PolicyTimetable;
}

/** A policy as it is stored, with the starting values of what it was written without. */
export function bodyOf(stored: unknown): PolicyBody {
  return PolicyBody.parse(fromJson(stored));
}

/** Workloads a selection matches right now, each with the reason. */
export async function matchesOf(db: Knex, body: Pick<PolicyBody, 'workloads' | 'tags'>): Promise<Match[]> {
  const named = body.workloads.length
    ? await db('workload').whereIn('id', body.workloads).select<{ id: number; name: string }[]>('id', 'name')
    : [];
  const tagged = body.tags.length
    ? await db('tag as t')
        .join('workload as w', 'w.id', 't.workload_id')
        .whereIn('t.name', body.tags)
        .select<{ id: number; name: string; tag: string }[]>('w.id', 'w.name', 't.name as tag')
    : [];
  const found = new Map<number, Match>();
  for (const w of named) found.set(w.id, { ...w, why: 'chosen by name' });
  for (const w of tagged) if (!found.has(w.id)) found.set(w.id, { id: w.id, name: w.name, why: `tagged ${w.tag}` });
  return [...found.values()].sort((a, b) => a.name.localeCompare(b.name));
}

/** Policies in force. */
export async function policiesInForce(db: Knex): Promise<PolicyRow[]> {
  const rows = await db('policy')
    .where({ ended: false })
    .orderBy('name')
    .select<{ id: number; name: string; body: unknown }[]>('id', 'name', 'body');
  const policies = rows.map(({ id, name, body }) => ({ id, name, body: bodyOf(body) }));
  return policies.map((p) => ({ ...p, timetable: timetableOf(p.body, policies) }));
}

/**
 * Writes to system-versioned tables with the clock's time as their row time, so that "as of" follows the same clock as everything else.
 */
export async function versioned(trx: Knex.Transaction, now: number, write: () => Promise<void>): Promise<void> {
  await trx.raw('SET @@timestamp = ?', [now / 1000]);
  try {
    await write();
  } finally {
    await trx.raw('SET @@timestamp = DEFAULT');
  }
}

/** Brings the assignments of a policy in line with what it matches. */
export async function assign(trx: Knex.Transaction, now: number, policyId: number, workloads: readonly number[]): Promise<void> {
  const current = (await trx('assignment').where({ policy_id: policyId }).select<{ workload_id: number }[]>('workload_id')).map(
    (r) => r.workload_id,
  );
  const gone = current.filter((id) => !workloads.includes(id));
  const fresh = workloads.filter((id) => !current.includes(id));
  if (!gone.length && !fresh.length) return;
  await versioned(trx, now, async () => {
    if (gone.length) await trx('assignment').where({ policy_id: policyId }).whereIn('workload_id', gone).delete();
    if (fresh.length) await trx('assignment').insert(fresh.map((id) => ({ policy_id: policyId, workload_id: id })));
  });
}
