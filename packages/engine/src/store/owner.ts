import { EngineError } from '../errors';
import { decodeList, encodeList } from '../format/sealed-list';
import type { KeySet } from '../keys/key-set';
import type { Target } from '../targets/target';
import { isLoss } from './loss';

/** Which installation may write to a store. Whoever takes it over raises the epoch; the newest counts. */
export interface Owner {
  readonly epoch: number;
  readonly installation: string;
  /** Since when, ms. */
  readonly since: number;
}

const folder = 'owner/';
const copy = '.copy';
const nameOf = (epoch: number) => `${folder}${String(epoch).padStart(8, '0')}`;

async function newestEpoch(target: Target): Promise<number> {
  const names = await target.list(folder);
  return names.length ? Number(names.at(-1)!.replace(copy, '')) : 0;
}

async function readAt(target: Target, keys: KeySet, name: string): Promise<Omit<Owner, 'epoch'> | undefined> {
  try {
    const [installation = '', since = ''] = decodeList(keys, 'owner', name.replace(copy, ''), await target.read(name));
    return { installation, since: Number(since) };
  } catch (error) {
    if (!isLoss(error)) throw error;
    return undefined;
  }
}

/** Who owns a store; undefined while nobody has said so. Throws OBJECT_DAMAGED when neither the newest record nor its copy can be read. */
export async function ownerOf(target: Target, keys: KeySet): Promise<Owner | undefined> {
  const epoch = await newestEpoch(target);
  if (epoch === 0) return undefined;
  const name = nameOf(epoch);
  const found = (await readAt(target, keys, name)) ?? (await readAt(target, keys, name + copy));
  if (!found) throw new EngineError('OBJECT_DAMAGED', name);
  return { epoch, ...found };
}

/** Makes an installation the owner, whoever it was before. Of several at once the last wins. */
export async function takeOwnership(target: Target, keys: KeySet, installation: string, now: number): Promise<void> {
  for (;;) {
    const name = nameOf((await newestEpoch(target)) + 1);
    const record = encodeList(keys, 'owner', name, [installation, String(now)]);
    if (!(await target.putExclusive(name, record))) continue;
    await target.put(name + copy, record);
    return;
  }
}

/** Writes the record of the owner or its copy anew when one of them can't be read. Returns how many were. */
export async function mendOwner(target: Target, keys: KeySet): Promise<number> {
  const epoch = await newestEpoch(target);
  if (epoch === 0) return 0;
  const name = nameOf(epoch);
  const both = [name, name + copy];
  const found = await Promise.all(both.map((n) => readAt(target, keys, n)));
  const sound = found.findIndex((o) => o !== undefined);
  if (sound < 0 || found.every((o) => o !== undefined)) return 0;
  await target.put(both[1 - sound]!, await target.read(both[sound]!));
  return 1;
}
