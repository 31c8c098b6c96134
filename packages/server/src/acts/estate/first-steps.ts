import type { FirstStep } from '@lithodex/contract';
import type { Knex } from 'knex';
import { countOf, formatFirst } from '@lithodex/core';
import { policiesInForce } from '../../records/policies/matching';
import type { TargetRow } from '../../records/targets/target-rows';
import { waysOf, type Account } from '../people/steps';
import type { Deps } from '../deps';

const setting = 'first-steps';

/** Whether administrators want to see the first steps no more. */
export const areHidden = async (db: Knex): Promise<boolean> => (await db('setting').where({ name: setting }).first('name')) !== undefined;

export async function hide(trx: Knex, hidden: boolean): Promise<void> {
  if (hidden)
    await trx('setting')
      .insert({ name: setting, value: JSON.stringify('hidden') })
      .onConflict()
      .ignore();
  else await trx('setting').where({ name: setting }).delete();
}

/** Targets of which nobody has an envelope that opens them. */
export async function withoutEnvelope(db: Knex): Promise<TargetRow[]> {
  return db('target').whereNull('retired_to').whereNull('envelope_at').orderBy('name').select<TargetRow[]>();
}

/** What a new installation still needs before it can be relied on, as somebody sees it; told from what is there. */
export async function firstSteps(deps: Deps, account: Account | undefined): Promise<FirstStep[]> {
  const { db } = deps;
  const targets = await db('target').whereNull('retired_to').select<TargetRow[]>('name');
  const open = await withoutEnvelope(db);
  const sources = await db('source').select<{ name: string }[]>('name');
  const policies = await policiesInForce(db);
  const point = await db('point').where({ state: 'visible' }).first<{ id: string } | undefined>('id');
  const restored = await db('run').where({ kind: 'restore', state: 'done' }).first<{ id: number } | undefined>('id');
  const named = (rows: readonly { name: string }[]) =>
    rows.length
      ? formatFirst(
          rows.map((r) => r.name),
          3,
        )
      : '';
  return [
    { name: 'second', done: account === undefined || (await waysOf(deps, account)).length > 0, note: '' },
    { name: 'target', done: targets.length > 0, note: named(targets) },
    {
      name: 'envelope',
      done: targets.length > 0 && !open.length,
      note: open.length ? `${countOf(open.length, 'target')} without: ${named(open)}` : '',
    },
    { name: 'source', done: sources.length > 0, note: named(sources) },
    { name: 'policy', done: policies.length > 0, note: named(policies) },
    { name: 'point', done: point !== undefined, note: '' },
    { name: 'restore', done: restored !== undefined, note: '' },
  ];
}
