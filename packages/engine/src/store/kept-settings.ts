import type { Store } from './store';
import { TwinRecords } from './twin-records';

/** Settings of the installation that owns a store, kept on it so that a new one can take them over. */
export interface KeptSettings {
  /** When they were written, ms. */
  readonly at: number;
  readonly text: string;
}

/** Older ones stand by in case the newest is lost in both its places, or was written by mistake. */
const kept = 5;
const records = (store: Store) => new TwinRecords(store.target, store.keys, 'settings');

/** Writes the settings as they are now. Throws NOT_OWNER. */
export async function keepSettings(store: Store, { at, text }: KeptSettings): Promise<void> {
  await store.assertOwned();
  await records(store).add([String(at), text]);
  await records(store).keepNewest(kept);
}

/** The newest settings that can be read; undefined when none were kept. Throws OBJECT_DAMAGED when none of those there can be read. */
export async function keptSettings(store: Store): Promise<KeptSettings | undefined> {
  const found = await records(store).newestReadable();
  return found && { at: Number(found.list[0]), text: found.list[1] ?? '' };
}

/** Writes a record of settings or its copy anew where one of them can't be read, and takes away what is lost in both places: the installation writes its settings again. */
export async function mendSettings(store: Store): Promise<{ readonly mended: number; readonly lost: number }> {
  const { mended, lost } = await records(store).mend();
  for (const number of lost) await records(store).remove(number);
  return { mended, lost: lost.length };
}
