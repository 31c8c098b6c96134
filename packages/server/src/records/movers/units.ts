import type { UnitFacts } from '@lithodex/kinds';
import type { Knex } from 'knex';
import { fromJson } from '../../base/db/json';

/** A machine that was started from a recovery medium and reported in. Times in ms, of this host. */
export interface KnownUnit {
  readonly name: string;
  readonly facts: UnitFacts;
  readonly firstSeen: number;
  readonly lastSeen: number;
}

interface UnitRow {
  readonly name: string;
  readonly facts: unknown;
  readonly first_seen: number;
  readonly last_seen: number;
}

const shown = (row: UnitRow): KnownUnit => ({
  name: row.name,
  facts: fromJson<UnitFacts>(row.facts),
  firstSeen: row.first_seen,
  lastSeen: row.last_seen,
});

export async function knownUnits(db: Knex): Promise<KnownUnit[]> {
  return (await db('unit').orderBy('name').select<UnitRow[]>()).map(shown);
}

export async function knownUnit(db: Knex, name: string): Promise<KnownUnit | undefined> {
  const row = await db('unit').where({ name }).first<UnitRow | undefined>();
  return row && shown(row);
}

export async function rememberUnit(db: Knex, name: string, facts: UnitFacts, now: number): Promise<void> {
  const seen = { facts: JSON.stringify(facts), last_seen: now };
  await db('unit')
    .insert({ name, first_seen: now, ...seen })
    .onConflict('name')
    .merge(seen);
}

const unitOfTask = "JSON_VALUE(work, '$.to.unit.name')";

/** The run that is at each unit. */
export async function busyUnits(db: Knex): Promise<Map<string, number>> {
  const rows = await db('task')
    .whereIn('state', ['waiting', 'running'])
    .where({ type: 'restore' })
    .whereRaw(`${unitOfTask} IS NOT NULL AND COALESCE(JSON_VALUE(work, '$.trial'), '0') IN ('0', 'false')`)
    .select<{ unit: string; run_id: number }[]>(db.raw(`${unitOfTask} AS unit`), 'run_id');
  return new Map(rows.map((r) => [r.unit, r.run_id]));
}

/** The newest run at each of these units. */
export async function runsAtUnits(
  db: Knex,
  names: readonly string[],
): Promise<Map<string, { readonly id: number; readonly state: string; readonly workload: string }>> {
  if (!names.length) return new Map();
  const rows = await db('task as t')
    .join('workload as w', 'w.id', 't.workload_id')
    .where({ 't.type': 'restore' })
    .whereIn(db.raw("JSON_VALUE(t.work, '$.to.unit.name')") as unknown as string, [...names])
    .orderBy('t.run_id')
    .select<{ unit: string; id: number; state: string; workload: string }[]>(
      db.raw("JSON_VALUE(t.work, '$.to.unit.name') AS unit"),
      't.run_id as id',
      't.state',
      'w.name as workload',
    );
  return new Map(rows.map(({ unit, ...run }) => [unit, run]));
}
