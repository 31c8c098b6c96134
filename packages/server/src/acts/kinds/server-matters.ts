import { formatMoment, obstacles } from '@lithodex/core';
import type { FoundMatter } from '@lithodex/contract';
import type { Deps } from '../deps';
import { readyToRebuild } from '../estate/ready-to-rebuild';

/** Servers that are read whole, and could not be rebuilt from their newest point. */
export async function serverMatters({ db, clock, config }: Deps): Promise<FoundMatter[]> {
  const servers = await db('workload as w')
    .join('source as s', 's.id', 'w.source_id')
    .where({ 's.whole_server': true })
    .whereNull('w.gone_at')
    .orderBy('w.id')
    .select<{ id: number; name: string }[]>('w.id', 'w.name');
  const found: FoundMatter[] = [];
  for (const { id, name } of servers) {
    const { parts, lastWhole, lacksSince } = await readyToRebuild(db, id);
    if (lacksSince === null) continue;
    const why = obstacles(parts).map((p) => p.missing);
    const from = lastWhole
      ? `The newest point with all of them is of ${formatMoment(lastWhole.moment, config.zone, clock.now())}.`
      : 'No point holds all of them.';
    found.push({
      id: `rebuild-${id}`,
      level: 'fault',
      title: `${name} could not be rebuilt`,
      text: `Parts of its system are missing: ${why.join('; ')}. Its files can be restored; on other hardware it would not start. ${from}`,
      since: lacksSince,
      action: { label: 'See what is missing', link: `/estate/${id}/ready`, query: {} },
      second: null,
    });
  }
  return found;
}
