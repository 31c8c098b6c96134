import type { Knex } from 'knex';
import { fromJson } from './json';

interface OfMachines {
  readonly pointId: string;
  readonly platformId: number;
  readonly files: readonly string[] | null;
  readonly destination: unknown;
  readonly [more: string]: unknown;
}

/** Restores of machines become restores like all others, and every restore says to what kind of place it goes. */
export async function oneRestore(knex: Knex): Promise<void> {
  const tasks = await knex('task').whereIn('type', ['restore', 'machine']).select<{ id: string; type: string; work: unknown }[]>();
  for (const { id, type, work } of tasks) {
    const changed = type === 'machine' ? fromMachine(fromJson<OfMachines>(work)) : fromFiles(fromJson(work));
    await knex('task')
      .where({ id })
      .update({ type: 'restore', work: JSON.stringify({ ...changed, type: 'restore' }) });
  }
}

function fromMachine({ pointId, platformId, files, destination, ...plan }: OfMachines): object {
  const picks = (files ?? ['']).map((path) => ({ pointId, path, to: '', base: '' }));
  return { ...plan, picks, to: { kind: 'machine', platformId, destination } };
}

function fromFiles({ rule, stamp, ...plan }: Readonly<Record<string, unknown>>): object {
  return { ...plan, to: { kind: 'files', rule, stamp } };
}
