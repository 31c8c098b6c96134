import type { FoundMatter } from '@lithodex/contract';
import type { Deps } from '../deps';
import { connectionMatters, shutMatters } from './system-matters';

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
  return [...(await connectionMatters(deps, 'bucket', bucketLink)), ...(await shutMatters(deps, 'bucket', 'bucket', bucketLink))];
}
