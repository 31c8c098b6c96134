import type { FoundMatter } from '@lithodex/contract';
import type { Deps } from '../deps';
import { connectionMatters, shutMatters } from './system-matters';

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
  return [...(await connectionMatters(deps, 'share', fileServerLink)), ...(await shutMatters(deps, 'share', 'share', fileServerLink))];
}
