import { EngineError, namesPerList, type ChunkReader, type Content, type TreeEntry, type TreeReader } from '@lithodex/engine';
import type { Blocks, Stretch } from '@lithodex/volumes';
import { imageBlock, zeroBlock } from '../machines/image-map';

const nameBytes = 32;
/** Lists of names that are kept: each names a gigabyte of a disk. */
const listsKept = 32;

/** A stretch of an image that is stored: whole blocks, the last one of a disk may be shorter. */
interface Stored {
  readonly first: number;
  readonly count: number;
  /** Blocks that are stored before it. */
  readonly before: number;
}

/**
 * A stored image of a disk as a disk. Which chunk a block is, is looked up when it is read, so that opening takes no longer for a large disk, and no more memory than its list of
 * stretches. Every chunk is checked as it is read. Undefined for a file that is not stored in such blocks.
 */
export function imageBlocks(entry: TreeEntry, trees: TreeReader, chunks: Pick<ChunkReader, 'read'>): Blocks | undefined {
  const { size, content } = entry;
  const stretches: Stored[] = [];
  let before = 0;
  for (const [offset, length] of entry.ranges ?? [[0, size] as const]) {
    if (length === 0) continue;
    const whole = offset % imageBlock === 0 && (length % imageBlock === 0 || offset + length === size);
    if (!whole) return undefined;
    const count = Math.ceil(length / imageBlock);
    stretches.push({ first: offset / imageBlock, count, before });
    before += count;
  }
  const lengthOf = (block: number) => Math.min(imageBlock, size - block * imageBlock);
  const lists = new Map<number, Promise<Content>>();

  async function list(number: number): Promise<Content> {
    const known = lists.get(number);
    if (known) return known;
    if (!content || !('lists' in content)) throw new EngineError('TREE_DAMAGED', 'an image without names');
    const at = content.lists.subarray(number * nameBytes, (number + 1) * nameBytes);
    const loaded = (async () => {
      for await (const part of trees.contentParts({ lists: at, count: namesPerList })) return part;
      throw new EngineError('TREE_DAMAGED', 'an image without names');
    })();
    lists.set(number, loaded);
    loaded.catch(() => lists.delete(number));
    for (const oldest of lists.keys()) {
      if (lists.size <= listsKept) break;
      lists.delete(oldest);
    }
    return loaded;
  }

  async function blockAt(block: number): Promise<Buffer> {
    const stretch = stretches[stretchAt(stretches, block)];
    if (!stretch || block < stretch.first) return zeroBlock.subarray(0, lengthOf(block));
    const index = stretch.before + block - stretch.first;
    const isDirect = content !== undefined && 'names' in content;
    const { names } = isDirect ? content : await list(Math.floor(index / namesPerList));
    const at = (isDirect ? index : index % namesPerList) * nameBytes;
    const data = await chunks.read(names.subarray(at, at + nameBytes));
    if (data.length !== lengthOf(block)) throw new EngineError('OBJECT_DAMAGED', 'a block of a disk of another length');
    return data;
  }

  return {
    size,
    stretches(offset, length) {
      const found: Stretch[] = [];
      const end = offset + length;
      for (let at = offset; at < end;) {
        const stretch = stretches[stretchAt(stretches, Math.floor(at / imageBlock))];
        const from = stretch ? stretch.first * imageBlock : size;
        const hole = at < from;
        const to = Math.min(end, hole ? from : (stretch!.first + stretch!.count) * imageBlock);
        found.push({ length: to - at, hole });
        at = to;
      }
      return found;
    },
    async read(offset, length) {
      if (offset < 0 || length < 0 || offset + length > size) throw new EngineError('OBJECT_DAMAGED', 'a place beyond the end of a disk');
      const first = Math.floor(offset / imageBlock);
      const from = offset - first * imageBlock;
      if (length === 0) return Buffer.alloc(0);
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

/** Index of the first stretch that ends behind a block. */
function stretchAt(stretches: readonly Stored[], block: number): number {
  let [low, high] = [0, stretches.length];
  while (low < high) {
    const middle = (low + high) >> 1;
    if (stretches[middle]!.first + stretches[middle]!.count <= block) low = middle + 1;
    else high = middle;
  }
  return low;
}
