import type { TreeEntry } from '@lithodex/engine';
import type { ReadableTree } from './readable-tree';

const zeros = Buffer.alloc(1 << 20);

/** Bytes of a file in order, holes as zeros. */
export async function* fileContent(tree: ReadableTree, entry: TreeEntry): AsyncGenerator<Buffer> {
  const ranges = entry.ranges ?? [[0, entry.size] as const];
  let at = 0;
  let range = 0;
  let done = 0;
  const fill = function* (to: number) {
    for (; at < to; at += Math.min(zeros.length, to - at)) yield zeros.subarray(0, Math.min(zeros.length, to - at));
  };
  for await (const part of tree.trees.contentParts(entry.content)) {
    for (let i = 0; i < part.lengths.length; i++) {
      const data = await tree.chunks.read(part.names.subarray(i * 32, i * 32 + 32));
      for (let from = 0; from < data.length;) {
        const [offset, length] = ranges[range]!;
        yield* fill(offset + done);
        const count = Math.min(data.length - from, length - done);
        yield data.subarray(from, from + count);
        from += count;
        done += count;
        at += count;
        if (done >= length) {
          range++;
          done = 0;
        }
      }
    }
  }
  yield* fill(entry.size);
}
