import type { KeySet } from '../keys/key-set';
import type { Target } from '../targets/target';
import { TwinRecords } from './twin-records';

/** Which installation may write to a store. Whoever takes it over raises the epoch; the newest counts. */
export interface Owner {
  readonly epoch: number;
  readonly installation: string;
  /** Since when, ms. */
  readonly since: number;
}

const records = (target: Target, keys: KeySet) => new TwinRecords(target, keys, 'owner');

/** Who owns a store; undefined while nobody has said so. Throws OBJECT_DAMAGED when neither the newest record nor its copy can be read. */
export async function ownerOf(target: Target, keys: KeySet): Promise<Owner | undefined> {
  const found = await records(target, keys).newest();
  if (!found) return undefined;
  const [installation = '', since = ''] = found.list;
  return { epoch: found.number, installation, since: Number(since) };
}

/** Makes an installation the owner, whoever it was before. Of several at once the last wins. */
export async function takeOwnership(target: Target, keys: KeySet, installation: string, now: number): Promise<void> {
  await records(target, keys).add([installation, String(now)]);
}

/** Writes a record of an owner or its copy anew where one of them can't be read. Returns how many were. */
export async function mendOwner(target: Target, keys: KeySet): Promise<number> {
  return (await records(target, keys).mend()).mended;
}
