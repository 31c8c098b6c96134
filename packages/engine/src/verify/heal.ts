import { EngineError } from '../errors';
import type { PackToc } from '../format/toc';
import { NameSet } from '../index/name-set';
import { keyedHash } from '../native/blake3';
import { condemn } from '../prune/condemned';
import { Marker } from '../prune/mark';
import type { Elsewhere } from '../store/chunk-reader';
import { isLoss } from '../store/loss';
import type { Store } from '../store/store';

export interface HealReport {
  /** Chunks fetched from other copies. */
  readonly fetched: number;
  /** Needed chunks that no copy could give. */
  readonly lost: number;
  /** Names of all chunks that points need; undefined when that could not be found out. */
  readonly live: NameSet | undefined;
  /** Needed chunks that could not be read here, whether they were fetched or not. */
  readonly unreadable: readonly Buffer[];
}

/**
 * Writes what points need of damaged packs, or of packs no index knows, into new ones: what can not be read here is fetched from other copies. The damaged ones are condemned. Nothing
 * is taken away: pruning does that when nobody reads them any more. Throws STOPPED, and what the target throws.
 */
export async function heal(store: Store, sick: readonly PackToc[], elsewhere: Elsewhere, stopped: () => boolean): Promise<HealReport> {
  const needs = await needsOf(store, stopped);
  const names = sick.flatMap((toc) => toc.chunks().map((c) => c.name)).filter((name) => !needs || needs.live.has(name));
  const sound: Elsewhere = async (name) => {
    const data = await elsewhere(name);
    return data && keyedHash(store.keys.nameKey, data).equals(name) ? data : undefined;
  };
  const wanted = distinct([...names, ...(needs?.unknown ?? [])]);
  const unreadable: Buffer[] = [];
  for (const name of wanted) {
    if (stopped()) throw new EngineError('STOPPED');
    if (!(await here(store, name))) unreadable.push(name);
  }
  let helps = unreadable.length === 0;
  for (const name of unreadable) helps ||= (await sound(name)) !== undefined;
  // where nobody can help, the packs stay as they are: what can be read of them is in its place
  if (!helps) return { fetched: 0, lost: unreadable.length, live: needs?.live, unreadable };
  const writer = store.writerOfAll();
  let [fetched, lost] = [0, 0];
  for (const name of wanted) {
    if (stopped()) throw new EngineError('STOPPED');
    const own = await here(store, name);
    const data = own ?? (await sound(name));
    if (data) {
      writer.put(data);
      await writer.drain();
      if (!own) fetched++;
    } else lost++;
  }
  await writer.finish();
  await store.index.checkpoint();
  const ids = sick.map((toc) => toc.packId.toString('hex'));
  if (ids.length) await condemn(store.keys, store.target, ids, () => store.pins.list(), true);
  await store.index.refresh();
  return { fetched, lost, live: needs?.live, unreadable };
}

function distinct(names: readonly Buffer[]): Buffer[] {
  const seen = new NameSet();
  return names.filter((name) => seen.add(name));
}

/** What points need; undefined when not even that can be had from anywhere, and then everything counts as needed. */
async function needsOf(store: Store, stopped: () => boolean): Promise<Marker | undefined> {
  const marker = new Marker(store, stopped);
  try {
    await marker.mark();
    return marker;
  } catch (error) {
    if (!isLoss(error)) throw error;
    return undefined;
  }
}

async function here(store: Store, name: Buffer): Promise<Buffer | undefined> {
  try {
    return await store.reader.readHere(name);
  } catch (error) {
    if (!isLoss(error)) throw error;
    return undefined;
  }
}
