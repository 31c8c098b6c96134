import type { TreeEntry } from '@lithodex/engine';
import type { ReadableTree } from './readable-tree';

const zeros = Buffer.alloc(1 << 20);

/** Zeros of the bytes from `at` to before `end`. */
export function* zerosBetween(at: number, end: number): Generator<Buffer> {
  for (; at < end; at += zeros.length) yield zeros.subarray(0, Math.min(zeros.length, end - at));
}

/** Bytes of a file in order, holes as zeros: all of it, or those from `from` to before `to`. What lies outside is not read. */
export async function* fileContent(tree: ReadableTree, entry: TreeEntry, from = 0, to = entry.size): AsyncGenerator<Buffer> {
  let at = from;
  for await (const { offset, data } of filePieces(tree, entry, from, to)) {
    yield* zerosBetween(at, offset);
    yield data;
    at = offset + data.length;
  }
  yield* zerosBetween(at, to);
}

/** What a file holds beside holes, in order, each piece with its place. */
export async function* filePieces(
  tree: ReadableTree,
  entry: TreeEntry,
  from = 0,
  to = entry.size,
): AsyncGenerator<{ readonly offset: number; readonly data: Buffer }> {
  const ranges = entry.ranges ?? [[0, entry.size] as const];
  let at = from;
  let range = 0;
  let done = 0;
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
        const skipped = Math.max(0, at - offset);
        const end = Math.min(count, to - offset);
        yield { offset: offset + skipped, data: data.subarray(used + skipped, used + end) };
        at = offset + end;
      }
      if (at >= to) return;
    }
  }
}
