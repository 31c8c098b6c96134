import type { FoundMatter } from '@lithodex/contract';
import type { ShareFacts } from '@lithodex/kinds';
import { fromJson } from '../../base/db/json';
import type { Deps } from '../deps';
import { connectionMatters } from './system-matters';

/** Where the connection of a file server is mended. */
export const fileServerLink = (sourceId: number): FoundMatter['action'] => ({
  label: 'Open the connection',
  link: `/estate/file-servers/${sourceId}`,
  query: {},
});

/** Causes of failed runs that are mended at the connection of the file server. */
export const fileServerCauses: readonly string[] = ['SHARE_REFUSED', 'SHARE_AWAY'];

/** File servers that can't be read, and shares that are to be protected and can't be listed. */
export async function shareMatters(deps: Deps): Promise<FoundMatter[]> {
  const found = await connectionMatters(deps, 'share', fileServerLink);
  const shut = await deps
    .db('workload as w')
    .join('source as s', 's.id', 'w.source_id')
    .whereIn('w.id', deps.db('assignment').select('workload_id'))
    .where({ 'w.kind': 'share', 's.trouble': null })
    .whereNull('w.gone_at')
    .whereRaw("JSON_VALUE(w.facts, '$.trouble') <> ''")
    .select<{ id: number; name: string; source_id: number; facts: unknown; tried_at: number | null }[]>(
      'w.id',
      'w.name',
      'w.source_id',
      'w.facts',
      's.tried_at',
    );
  for (const { id, name, source_id, facts, tried_at } of shut)
    found.push({
      id: `share-${id}`,
      level: 'fault',
      title: `The share ${name} can not be listed`,
      text: fromJson<ShareFacts>(facts).trouble,
      action: fileServerLink(source_id),
      second: null,
      since: tried_at ?? deps.clock.now(),
    });
  return found;
}
