import type { SignInSettings } from '@lithodex/contract';
import type { Knex } from 'knex';
import { z } from 'zod';
import { SignInRules } from '@lithodex/contract';
import { fromJson } from '../../base/db/json';

const setting = 'sign-in';
/** What holds where nobody said anything: in an installation that was there before second factors were. */
const before: z.output<typeof SignInRules> = { secondFor: [], idleMinutes: 720, selfService: false };

export type Rules = Omit<SignInSettings, 'organisation'>;

export async function rulesOf(db: Knex): Promise<Rules> {
  const row = await db('setting').where({ name: setting }).first<{ value: unknown } | undefined>('value');
  return row ? SignInRules.parse(fromJson(row.value)) : before;
}

export async function keepRules(trx: Knex, rules: Rules): Promise<void> {
  const value = JSON.stringify(rules);
  await trx('setting').insert({ name: setting, value }).onConflict().merge({ value });
}
