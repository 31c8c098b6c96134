import type { TreeEntry } from '@lithodex/engine';
import type { ReadableTree } from './readable-tree';

const zeros = Buffer.alloc(1 << 20);

/** Bytes of a file in order, holes as zeros: all of it, or those from `from` to before `to`. What lies outside is not read. */
export async function* fileContent(tree: ReadableTree, entry: TreeEntry, from = 0, to = entry.size): AsyncGenerator<Buffer> {
  const ranges = entry.ranges ?? [[0, entry.size] as const];
  let at = from;
  let range = 0;
  let done = 0;
  const fill = function* (end: number) {
    for (; at < end; at += Math.min(zeros.length, end - at)) yield zeros.subarray(0, Math.min(zeros.length, end - at));
  };
  /** Where the next bytes of the content go: in the file, in their chunk, how many. */
  const places = function* (length: number) {
    for (let used = 0; used < length;) {
      const [offset, whole] = ranges[range]!;
      const count = Math.min(length - used, whole - done);
      yield [offset + done, used, count] as const;
      used += count;
      done += count;
      if (done < whole) continue;
      range++;
      done = 0;
    }
  };
  for await (const part of tree.trees.contentParts(entry.content)) {
    for (let i = 0; i < part.lengths.length; i++) {
      const wanted = [...places(part.lengths[i]!)].filter(([offset, , count]) => offset < to && offset + count > at);
      if (!wanted.length) continue;
      const data = await tree.chunks.read(part.names.subarray(i * 32, i * 32 + 32));
      for (const [offset, used, count] of wanted) {
        yield* fill(Math.min(offset, to));
        const end = Math.min(count, to - offset);
        yield data.subarray(used + Math.max(0, at - offset), used + end);
        at = offset + end;
      }
      if (at >= to) return;
    }
  }
  yield* fill(to);
}
