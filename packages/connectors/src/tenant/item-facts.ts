import { TenantItem } from '@lithodex/kinds';
import type { TreeEntry } from '@lithodex/engine';
import { z } from 'zod';

const key = 'lithodex.item';
const folderKey = 'lithodex.folder';

/** What is known of an item goes with its entry. */
export const withFacts = (facts: TenantItem): TreeEntry['attributes'] => [[key, Buffer.from(JSON.stringify(facts))]];

/** What is known of an item; undefined for what has nothing to tell, or what a later version may have written. */
export function itemFacts({ attributes }: Pick<TreeEntry, 'attributes'>): TenantItem | undefined {
  const found = attributes?.find(([name]) => name === key);
  if (!found) return undefined;
  try {
    return TenantItem.safeParse(JSON.parse(found[1].toString('utf8'))).data;
  } catch {
    return undefined;
  }
}

/** Where a folder stands in its service, so that the next point reads only what changed. */
export const FolderState = z.object({
  /** As the service names it. */
  path: z.string(),
  /** Of a mailbox folder. */
  uidValidity: z.string().optional(),
  modseq: z.string().optional(),
  uidNext: z.number().optional(),
  messages: z.number().optional(),
  use: z.string().optional(),
  subscribed: z.boolean().optional(),
  /** Of a calendar or address book. */
  token: z.string().optional(),
  title: z.string().optional(),
  components: z.array(z.string()).optional(),
  /** Of a chat: the page in which its last day begins, and the event it begins with. */
  since: z.string().optional(),
  first: z.string().optional(),
  topic: z.string().optional(),
});
export type FolderState = z.infer<typeof FolderState>;

/** The same state is always the same bytes, so that a folder that is as it was is the same entry. */
export const withState = (state: FolderState): NonNullable<TreeEntry['attributes']> => [
  [folderKey, Buffer.from(JSON.stringify(FolderState.parse(state)))],
];

export function folderState({ attributes }: Pick<TreeEntry, 'attributes'>): FolderState | undefined {
  const found = attributes?.find(([name]) => name === folderKey);
  if (!found) return undefined;
  try {
    return FolderState.safeParse(JSON.parse(found[1].toString('utf8'))).data;
  } catch {
    return undefined;
  }
}
