import { shippedRules } from '@lithodex/core';
import type { Knex } from 'knex';
import { scans } from './later-tables';
import { runAll } from './run-all';

/** What scans need, with the rules that ship. */
export async function scansWithRules(knex: Knex): Promise<void> {
  await runAll(knex, scans);
  await knex('scan_rule').insert(
    shippedRules.map(({ name, text }) => ({ name, text, is_on: true, ships: true, changed_at: Date.now(), changed_by: '' })),
  );
}
