import { countOf } from '@lithodex/core';
import type { SequenceBody, Settings, StandingBody } from '@lithodex/contract';
import type { Knex } from 'knex';
import { v7 as newId } from 'uuid';
import { step, type Step } from './step';

/** A share is kept again by a person: what opens it is kept nowhere but here. */
export async function shareStep(trx: Knex.Transaction, { name, address, account }: Settings['shares'][number]): Promise<Step> {
  if (await trx('share').where({ name }).first('id')) return step('share', name, 'same', 'a share of this name is here');
  const where = address.kind === 'smb' ? `${address.share} on ${address.host}` : address.url;
  return step('share', name, 'leave', `to be kept again: ${where}, as ${account || 'nobody'}, with its password`);
}

/** Another installation is looked at again by a person: its token is kept nowhere but here. */
export async function installationStep(trx: Knex.Transaction, { name, url }: Settings['installations'][number]): Promise<Step> {
  if (await trx('installation').where({ name }).first('id')) return step('installation', name, 'same', 'it is looked at from here');
  return step('installation', name, 'leave', `to be looked at again: ${url}, with its token`);
}

/** A restore that is repeated, from now on, where it goes to a folder and all it is of is here. */
export async function standingStep(trx: Knex.Transaction, now: number, standing: Settings['standing'][number]): Promise<Step> {
  const { folder, person, workloads: names, ...rest } = standing;
  const say = (effect: Step['effect'], why: string, act?: () => Promise<void>) => step('repeated restore', standing.name, effect, why, act);
  if (await trx('standing_restore').where({ name: standing.name, ended: false }).first('no'))
    return say('same', 'one of this name is here');
  if (folder === null) return say('leave', 'it goes to a system: to be set up again from a restore sheet');
  const rows = await trx('workload').whereIn('name', names).whereNull('gone_at').select<{ id: number; name: string }[]>('id', 'name');
  const missing = names.find((name) => rows.filter((r) => r.name === name).length !== 1);
  if (missing !== undefined) return say('leave', `${missing} is not here, or more than once`);
  return say('add', `to ${folder}, from now on`, async () => {
    const body: StandingBody = { ...rest, workloads: rows.map((r) => r.id), destination: { to: 'folder', folder } };
    await trx('standing_restore').insert({ id: newId(), name: body.name, body: JSON.stringify(body), person, due_from: now });
  });
}

/** Restores in their order, where all that they bring back is here. `ready`: repeated restores that are here, or are by then. */
export async function sequenceStep(
  trx: Knex.Transaction,
  now: number,
  sequence: Settings['sequences'][number],
  ready: ReadonlySet<string>,
): Promise<Step> {
  const say = (effect: Step['effect'], why: string, act?: () => Promise<void>) => step('sequence', sequence.name, effect, why, act);
  if (await trx('restore_sequence').where({ name: sequence.name, removed: false }).first('id'))
    return say('same', 'one of this name is here');
  const steps: SequenceBody['steps'] = [];
  for (const { by, of, after, wait } of sequence.steps) {
    const query =
      by === 'workload'
        ? trx('workload').where({ name: of }).whereNull('gone_at').select<{ id: number }[]>('id')
        : trx('standing_restore').where({ name: of, ended: false }).select<{ id: number }[]>('no as id');
    const [first, second] = await query;
    if (!first && by === 'standing' && ready.has(of)) continue;
    if (!first || second) return say('leave', `${of} is not here, or more than once`);
    steps.push({ restore: { by, id: first.id }, after, wait });
  }
  return say('add', countOf(steps.length, 'step'), async () => {
    const body: SequenceBody = { name: sequence.name, objective: sequence.objective, steps };
    await trx('restore_sequence').insert({ name: body.name, body: JSON.stringify(body), person: sequence.person, changed_at: now });
  });
}
