import type { GetObjectAclCommandOutput, Permission } from '@aws-sdk/client-s3';
import type { TreeEntry } from '@lithodex/engine';
import { ObjectFacts } from '@lithodex/kinds';

const key = 'lithodex.object';

/** What is known of an object goes with its entry. */
export const withObjectFacts = (facts: ObjectFacts): NonNullable<TreeEntry['attributes']> => [[key, Buffer.from(JSON.stringify(facts))]];

/** What is known of an object; undefined for what says nothing, or what a later version may have written. */
export function objectFacts({ attributes }: Pick<TreeEntry, 'attributes'>): ObjectFacts | undefined {
  const found = attributes?.find(([name]) => name === key);
  if (!found) return undefined;
  try {
    return ObjectFacts.safeParse(JSON.parse(found[1].toString('utf8'))).data;
  } catch {
    return undefined;
  }
}

/** Whether an object had an ETag: what is asked of every object of a bucket takes no look at the rest of its facts. */
export function hasTag(entry: Pick<TreeEntry, 'attributes'>, etag: string): boolean {
  const value = entry.attributes?.[0]?.[0] === key ? entry.attributes[0][1] : undefined;
  if (!value) return false;
  const begins = `{"etag":${JSON.stringify(etag)},`;
  if (value.toString('utf8', 0, begins.length) === begins) return true;
  // written in another order
  return !value.toString('utf8', 0, 9).startsWith('{"etag":') && objectFacts(entry)?.etag === etag;
}

/** Who may do what, beside the owner: that an owner may do all goes without saying. */
export function grantsOf({ Grants = [], Owner }: Pick<GetObjectAclCommandOutput, 'Grants' | 'Owner'>): NonNullable<ObjectFacts['grants']> {
  return Grants.flatMap(({ Grantee, Permission: right = 'READ' }): NonNullable<ObjectFacts['grants']> => {
    const { ID, URI, EmailAddress } = Grantee ?? {};
    if (URI !== undefined) return [{ to: URI, by: 'group' as const, right }];
    if (EmailAddress !== undefined) return [{ to: EmailAddress, by: 'mail' as const, right }];
    return ID === undefined || ID === Owner?.ID ? [] : [{ to: ID, by: 'id' as const, right }];
  }).slice(0, 100);
}

type GrantField = 'GrantRead' | 'GrantReadACP' | 'GrantWriteACP' | 'GrantFullControl';
const fields: Partial<Record<string, GrantField>> = {
  READ: 'GrantRead',
  READ_ACP: 'GrantReadACP',
  WRITE_ACP: 'GrantWriteACP',
  FULL_CONTROL: 'GrantFullControl',
} satisfies Partial<Record<Permission, GrantField>>;
const words = { id: 'id', group: 'uri', mail: 'emailAddress' } as const;

/** The same as what is said where an object is written. */
export function grantFields(grants: ObjectFacts['grants']): Partial<Record<GrantField, string>> {
  const said: Partial<Record<GrantField, string>> = {};
  for (const { to, by, right } of grants ?? []) {
    const field = fields[right];
    if (field) said[field] = `${said[field] === undefined ? '' : `${said[field]}, `}${words[by]}="${to.replaceAll('"', '')}"`;
  }
  return said;
}
