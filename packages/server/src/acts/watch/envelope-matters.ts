import type { FoundMatter } from '@lithodex/contract';
import { countOf, formatFirst } from '@lithodex/core';
import type { Deps } from '../deps';
import { withoutEnvelope } from '../estate/first-steps';

/** A new target is spoken of by the first steps; after so long it is a matter, ms. */
const graceMs = 86_400_000;

/** Targets that nobody could open any more were this installation lost: their key envelope was never fetched. */
export async function envelopeMatters({ db, clock }: Deps): Promise<FoundMatter[]> {
  const open = await withoutEnvelope(db);
  const sinceOf = (t: (typeof open)[number]) => t.created_at + graceMs;
  const due = open.filter((t) => sinceOf(t) <= clock.now());
  if (!due.length) return [];
  const names = formatFirst(
    due.map((t) => t.name),
    4,
  );
  return [
    {
      id: 'no-envelope',
      level: 'warning',
      title: due.length === 1 ? `${names} has no key envelope outside` : `${countOf(due.length, 'target')} have no key envelope outside`,
      text: `${due.length > 1 ? `${names}. ` : ''}Nobody has fetched it yet. Were this installation lost, nothing on ${due.length === 1 ? 'it' : 'them'} could be read.`,
      action: { label: 'Fetch it', link: due.length === 1 ? `/storage/${due[0]!.id}` : '/storage', query: {} },
      second: null,
      since: Math.min(...due.map(sinceOf)),
    },
  ];
}
