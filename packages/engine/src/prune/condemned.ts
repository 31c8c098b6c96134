import { randomBytes } from 'node:crypto';
import { decodeList, encodeList } from '../format/sealed-list';
import type { KeySet } from '../keys/key-set';
import { isLoss } from '../store/loss';
import type { Target } from '../targets/target';

/** Packs that are to be deleted: runs that begin now must not build on them. */
export interface CondemnedRecord {
  readonly id: string;
  /** Pack ids as hex. */
  readonly packs: readonly string[];
  /** Tasks pinned right after the record could be seen; undefined while that is not known, and then nothing of it may be deleted. */
  readonly pins: readonly string[] | undefined;
  /** The packs are damaged: they stay condemned even when a point still needs something that only they had. */
  readonly damaged: boolean;
}

const folder = 'condemned/';
const pinsSuffix = '.pins';
const damagedSuffix = '.damaged';
/** Reads the records. One that vanishes meanwhile or can not be read is passed over. */
export async function readCondemned(keys: KeySet, target: Target): Promise<CondemnedRecord[]> {
  const names = await target.list(folder);
  const load = async (name: string) => {
    try {
      return decodeList(keys, 'condemned', name, await target.read(folder + name));
    } catch (error) {
      // without its list nothing can be deleted by it
      if (isLoss(error)) return undefined;
      throw error;
    }
  };
  const records: CondemnedRecord[] = [];
  for (const id of names.filter((n) => !n.endsWith(pinsSuffix))) {
    const packs = await load(id);
    const pins = names.includes(id + pinsSuffix) ? await load(id + pinsSuffix) : undefined;
    if (packs) records.push({ id, packs, pins, damaged: id.endsWith(damagedSuffix) });
  }
  return records;
}

/**
 * Condemns packs. The record is written first and the pins are listed after it: whoever pins later sees the record, whoever pinned earlier is
 * listed. (Both sides write their own mark before they read the other's.)
 */
export async function condemn(
  keys: KeySet,
  target: Target,
  packs: readonly string[],
  pins: () => Promise<string[]>,
  damaged = false,
): Promise<CondemnedRecord> {
  const id = randomBytes(8).toString('hex') + (damaged ? damagedSuffix : '');
  await target.put(folder + id, encodeList(keys, 'condemned', id, packs));
  const pinned = await pins();
  await target.put(folder + id + pinsSuffix, encodeList(keys, 'condemned', id + pinsSuffix, pinned));
  return { id, packs, pins: pinned, damaged };
}

/** Removes a record when its packs are gone or were found to be needed. */
export async function forgetRecord(target: Target, id: string): Promise<void> {
  await target.remove(folder + id);
  await target.remove(folder + id + pinsSuffix);
}
