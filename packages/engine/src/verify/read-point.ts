import { EngineError } from '../errors';
import { openBlock, packName } from '../format/pack';
import type { PackToc, TocChunk } from '../format/toc';
import { NameSet } from '../index/name-set';
import { keyedHash } from '../native/blake3';
import { Marker } from '../prune/mark';
import type { Store } from '../store/store';
import type { TreeEntry } from '../tree/tree-entry';

export interface PointRead {
  readonly chunks: number;
  /** Bytes read from the target. */
  readonly bytes: number;
}

/**
 * Reads everything a point needs from the target itself and checks every tag and sum, each block once and in the order it lies there. Throws STOPPED, OBJECT_MISSING and
 * OBJECT_DAMAGED with what is wrong first.
 */
export async function readPoint(
  store: Store,
  top: TreeEntry,
  stopped: () => boolean,
  onBytes: (bytes: number) => void,
): Promise<PointRead> {
  const marker = new Marker(store, stopped);
  await marker.walk(top);
  const checked = new NameSet();
  let bytes = 0;
  let failure: EngineError | undefined;
  for await (const toc of store.index.tocs()) {
    if (stopped()) throw new EngineError('STOPPED');
    try {
      for await (const read of neededBlocks(store, toc, marker.live, checked)) {
        bytes += read;
        onBytes(read);
      }
    } catch (error) {
      // what is lost in one pack may stand whole in another
      if (!(error instanceof EngineError && (error.code === 'OBJECT_MISSING' || error.code === 'OBJECT_DAMAGED'))) throw error;
      failure ??= error;
    }
  }
  if (checked.size === marker.live.size) return { chunks: checked.size, bytes };
  throw failure ?? new EngineError('OBJECT_MISSING', `${marker.live.size - checked.size} chunks of the point`);
}

/** Reads the blocks of a pack with chunks that are needed and not `checked` yet, adds those and yields the bytes read. */
async function* neededBlocks(store: Store, toc: PackToc, needed: NameSet, checked: NameSet): AsyncGenerator<number> {
  const byBlock = new Map<number, TocChunk[]>();
  for (const chunk of toc.chunks()) {
    if (!needed.has(chunk.name) || checked.has(chunk.name)) continue;
    const own = byBlock.get(chunk.block) ?? [];
    byBlock.set(chunk.block, own);
    own.push(chunk);
  }
  for (const [number, chunks] of byBlock) {
    const place = toc.blocks[number]!;
    const raw = openBlock(
      store.keys,
      toc.packId,
      number,
      place,
      await store.target.readRange(packName(toc.packId), place.offset, place.stored),
    );
    for (const { name, offset, length } of chunks) {
      if (!keyedHash(store.keys.nameKey, raw.subarray(offset, offset + length)).equals(name))
        throw new EngineError('OBJECT_DAMAGED', `${packName(toc.packId)}, block ${number}: the sum of a chunk does not match`);
      checked.add(name);
    }
    yield place.stored;
  }
}
