import type { SettingStep } from '@lithodex/contract';
import type { Knex } from 'knex';

/** What becomes of a setting, with what carries it out; without that there is nothing to do. */
export interface Step extends SettingStep {
  readonly act?: () => Promise<void>;
}

export const step = (
  kind: SettingStep['kind'],
  name: string,
  effect: SettingStep['effect'],
  why: string,
  act?: () => Promise<void>,
): Step => ({
  kind,
  name,
  effect,
  why,
  ...(act && { act }),
});

/** The policy in force of a name. */
export function inForceAs(trx: Knex.Transaction, name: string): Promise<{ readonly id: number } | undefined> {
  return trx('policy').where({ name, ended: false }).first<{ id: number } | undefined>('id');
}
