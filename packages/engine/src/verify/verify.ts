import { EngineError } from '../errors';
import { openBlock, packName, readPackToc } from '../format/pack';
import type { PackToc, TocChunk } from '../format/toc';
import { NameSet } from '../index/name-set';
import { keyedHash } from '../native/blake3';
import { isAway } from '../store/loss';
import type { Store } from '../store/store';
import { paceOf } from '../targets/pace';

export interface VerifyOptions {
  /** Which packs to read, by their hex id; all when absent. */
  readonly reads?: (packId: string) => boolean;
  readonly stopped: () => boolean;
  /** Called after every pack with the bytes read of it. */
  readonly onPack?: (bytes: number) => void;
}

/** A pack that is not as it was written. */
export interface Damage {
  /** Name of the object on the target. */
  readonly object: string;
  readonly why: string;
  /** Chunks that can not be read. */
  readonly chunks: number;
  /** There is no such object. */
  readonly gone?: true;
}

export interface VerifyReport {
  readonly packs: number;
  readonly bytes: number;
  readonly chunks: number;
  readonly damages: readonly Damage[];
  /** Names of the chunks that can not be read. */
  readonly lost: NameSet;
  /** Packs that hold damaged chunks. */
  readonly sick: readonly PackToc[];
  /** Cartridges on the shelf, whose packs were not read. */
  readonly away: readonly string[];
}

/**
 * Reads packs whole and checks everything that was sealed: table of contents, the tag of every block, the sum of every chunk; a file that is cut, changed or gone is
 * told with the chunks it takes along. Nothing on the target is changed. Throws STOPPED, and what the target throws other than a missing object.
 */
export async function verify(store: Store, options: VerifyOptions): Promise<VerifyReport> {
  const lost = new NameSet();
  const damages: Damage[] = [];
  const sick: PackToc[] = [];
  const pace = paceOf(store.target.place);
  const away = new Set<string>();
  let [packs, bytes, chunks] = [0, 0, 0];
  for await (const toc of store.index.tocs()) {
    if (options.stopped()) throw new EngineError('STOPPED');
    const id = toc.packId.toString('hex');
    if (options.reads && !options.reads(id)) continue;
    const checked = await checkPack(store, toc, lost);
    if ('away' in checked) {
      away.add(checked.away);
      continue;
    }
    damages.push(...checked.damages);
    if (checked.damages.length) sick.push(toc);
    await pace?.take(checked.bytes);
    packs++;
    bytes += checked.bytes;
    chunks += toc.count;
    options.onPack?.(checked.bytes);
  }
  return { packs, bytes, chunks, damages, lost, sick, away: [...away].sort() };
}

async function checkPack(store: Store, toc: PackToc, lost: NameSet): Promise<{ bytes: number; damages: Damage[] } | { away: string }> {
  const object = packName(toc.packId);
  const chunks = toc.chunks();
  const lose = (which: readonly TocChunk[], why: string): Damage => {
    for (const chunk of which) lost.add(chunk.name);
    return { object, why, chunks: which.length };
  };
  let file: Buffer;
  try {
    file = await store.target.read(object);
  } catch (error) {
    if (isAway(error)) return { away: error.details };
    if (!(error instanceof EngineError && error.code === 'OBJECT_MISSING')) throw error;
    return { bytes: 0, damages: [{ ...lose(chunks, 'the file is gone'), gone: true }] };
  }
  const damages: Damage[] = [];
  for (const [number, place] of toc.blocks.entries()) {
    const own = chunks.filter((c) => c.block === number);
    try {
      const raw = openBlock(store.keys, toc.packId, number, place, file.subarray(place.offset, place.offset + place.stored));
      const wrong = own.filter((c) => !keyedHash(store.keys.nameKey, raw.subarray(c.offset, c.offset + c.length)).equals(c.name));
      if (wrong.length) damages.push(lose(wrong, `block ${number}: the sum of a chunk does not match`));
    } catch (error) {
      damages.push(lose(own, error instanceof EngineError ? error.details.replace(`${object}, `, '') : String(error)));
    }
  }
  if (damages.length === 0) {
    try {
      readPackToc(store.keys, file);
    } catch {
      damages.push({ object, why: 'the table of contents at its end is damaged; the index has a copy, so nothing is lost', chunks: 0 });
    }
  }
  return { bytes: file.length, damages };
}
