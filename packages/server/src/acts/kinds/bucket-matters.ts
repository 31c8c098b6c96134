import type { FoundMatter } from '@lithodex/contract';
import type { BucketFacts } from '@lithodex/kinds';
import { fromJson } from '../../base/db/json';
import type { Deps } from '../deps';
import { connectionMatters } from './system-matters';

/** Where the connection of an object storage is mended. */
export const bucketLink = (sourceId: number): FoundMatter['action'] => ({
  label: 'Open the connection',
  link: `/estate/storages/${sourceId}`,
  query: {},
});

/** Causes of failed runs that are mended at the connection of the object storage. */
export const bucketCauses: readonly string[] = ['BUCKET_REFUSED', 'BUCKET_AWAY', 'BUCKET_RIGHT_MISSING'];

/** Object storages that can't be read, and buckets that are to be protected and can't be listed. */
export async function bucketMatters(deps: Deps): Promise<FoundMatter[]> {
  const found = await connectionMatters(deps, 'bucket', bucketLink);
  const shut = await deps
    .db('workload as w')
    .join('source as s', 's.id', 'w.source_id')
    .whereIn('w.id', deps.db('assignment').select('workload_id'))
    .where({ 'w.kind': 'bucket', 's.trouble': null })
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
      id: `bucket-${id}`,
      level: 'fault',
      title: `The bucket ${name} can not be listed`,
      text: fromJson<BucketFacts>(facts).trouble,
      action: bucketLink(source_id),
      second: null,
      since: tried_at ?? deps.clock.now(),
    });
  return found;
}
