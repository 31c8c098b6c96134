import { heldBy } from '@lithodex/core';
import { MachineFacts, type Consequences } from '@lithodex/contract';
import { fromJson } from '../../base/db/json';
import type { Deps } from '../../acts/deps';

/** Machines whose helper tells of a database or a mail store inside: what their images can't give back singly. */
export async function heldWarnings(deps: Deps, ids: readonly number[]): Promise<Consequences['warnings']> {
  const rows = await deps
    .db('workload')
    .whereIn('id', [...ids])
    .where({ kind: 'machine' })
    .select<{ name: string; facts: unknown }[]>('name', 'facts');
  const holding = rows.flatMap(({ name, facts }) => heldBy(MachineFacts.parse(fromJson(facts)).services).map((h) => ({ name, ...h })));
  const alone = {
    database: 'single tables, rows or a second between two points can not be had from the image: connect the database itself for these',
    'mail store': 'a mailbox or a message is a file among files there: whole folders of it come back, not a message by its subject',
  };
  return (['database', 'mail store'] as const).flatMap((held) => {
    const own = holding.filter((h) => h.held === held);
    if (!own.length) return [];
    const names = own.slice(0, 3).map((h) => `${h.name} (${h.by})`);
    const more = own.length > 3 ? ` and ${own.length - 3} more` : '';
    const text = `${names.join(', ')}${more} ${own.length === 1 ? 'holds' : 'hold'} a ${held}: its image brings the whole machine back, but ${alone[held]}.`;
    return [{ code: held === 'database' ? 'HOLDS_DATABASE' : 'HOLDS_MAIL', text }];
  });
}
