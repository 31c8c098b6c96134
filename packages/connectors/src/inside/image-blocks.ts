import { EngineError, type ChunkReader } from '@lithodex/engine';
import type { Blocks, Stretch } from '@lithodex/volumes';
import { imageBlock, zeroBlock, type ImageMap } from '../machines/image-map';

/** A stored image of a disk as a disk. Every chunk is checked as it is read. */
export function imageBlocks(map: ImageMap, chunks: Pick<ChunkReader, 'read'>): Blocks {
  const blockAt = async (block: number): Promise<Buffer> => {
    const name = map.name(block);
    return name ? chunks.read(name) : zeroBlock.subarray(0, map.lengthOf(block));
  };
  return {
    size: map.size,
    stretches(offset, length) {
      const found: Stretch[] = [];
      for (let at = offset; at < offset + length;) {
        const block = Math.floor(at / imageBlock);
        const end = Math.min(offset + length, (block + 1) * imageBlock);
        found.push({ length: end - at, hole: map.name(block) === undefined });
        at = end;
      }
      return found;
    },
    async read(offset, length) {
      if (offset < 0 || length < 0 || offset + length > map.size)
        throw new EngineError('OBJECT_DAMAGED', 'a place beyond the end of a disk');
      const first = Math.floor(offset / imageBlock);
      const from = offset - first * imageBlock;
      const data = await blockAt(first);
      if (from + length <= data.length) return data.subarray(from, from + length);
      const out = Buffer.allocUnsafe(length);
      data.copy(out, 0, from);
      for (let to = data.length - from, block = first + 1; to < length; block++) {
        const next = await blockAt(block);
        to += next.copy(out, to, 0, Math.min(next.length, length - to));
      }
      return out;
    },
  };
}
