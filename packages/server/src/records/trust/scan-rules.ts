import { createHash } from 'node:crypto';
import { ScanSettings, type RuleFileRow, type RuleSource } from '@lithodex/contract';
import type { Knex } from 'knex';
import { fromJson } from '../../base/db/json';

const setting = 'scans';
const setSetting = 'scan-set';

/** When points are scanned by themselves: never, as long as nobody said so. */
export async function scanSettings(db: Knex): Promise<ScanSettings> {
  const row = await db('setting').where({ name: setting }).first<{ value: unknown } | undefined>('value');
  return ScanSettings.parse(row ? fromJson(row.value) : { when: 'never' });
}

export async function keepScanSettings(trx: Knex, settings: ScanSettings): Promise<void> {
  const value = JSON.stringify(settings);
  await trx('setting').insert({ name: setting, value }).onConflict().merge({ value });
}

interface Row {
  readonly id: number;
  readonly name: string;
  readonly text: string;
  readonly is_on: 0 | 1;
  readonly ships: 0 | 1;
  readonly version: number;
  readonly changed_at: number;
  readonly changed_by: string;
}

/** All files of rules, by name. */
export async function ruleFiles(db: Knex): Promise<RuleFileRow[]> {
  const rows = await db('scan_rule').orderBy('name').select<Row[]>();
  return rows.map(({ id, name, text, is_on, ships, version, changed_at, changed_by }) => ({
    id,
    name,
    text,
    on: is_on === 1,
    ships: ships === 1,
    version,
    changedAt: changed_at,
    by: changed_by,
  }));
}

/** The set of rules in force. `id`: a name for exactly these rules and this scanner; `at`: since when. */
export interface RuleSetNow {
  readonly id: string;
  readonly at: number;
  readonly files: readonly RuleSource[];
}

/** The rules that are on, and the name of their set. */
export async function rulesInForce(db: Knex, scanner: string): Promise<Omit<RuleSetNow, 'at'>> {
  const files = (await ruleFiles(db)).filter((f) => f.on).map(({ name, text }) => ({ name, text }));
  const id = createHash('sha256')
    .update(JSON.stringify([scanner, files.map((f) => f.text)]))
    .digest('hex')
    .slice(0, 16);
  return { id, files };
}

/** The set of rules in force, with the instant at which it came to be. */
export async function ruleSetNow(db: Knex, now: number, scanner: string): Promise<RuleSetNow> {
  const { id, files } = await rulesInForce(db, scanner);
  const row = await db('setting').where({ name: setSetting }).first<{ value: unknown } | undefined>('value');
  const known = row && fromJson<{ id: string; at: number }>(row.value);
  if (known?.id === id) return { id, at: known.at, files };
  const value = JSON.stringify({ id, at: now });
  await db('setting').insert({ name: setSetting, value }).onConflict().merge({ value });
  return { id, at: now, files };
}
